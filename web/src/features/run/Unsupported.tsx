import type { Run } from "../../api/client";
import { fillOf, Glass } from "../../ui/Glass";
import { Sheet } from "../../ui/parts";
import { many } from "../../ui/words";

/** What no agent can run is a matter of the combination: it is told once for each reason, with its number of tests. */
export function unsupported(run: Run): { pane: number; why: string; tests: number }[] {
  const all: { pane: number; why: string; tests: number }[] = [];
  for (const p of run.panes)
    for (const c of run.cells[p.index] ?? []) {
      if (fillOf(c.state, c.verdict) !== "unsupported") continue;
      const why = c.why || c.message;
      const same = all.find((u) => u.pane === p.index && u.why === why);
      if (same) same.tests++;
      else all.push({ pane: p.index, why, tests: 1 });
    }
  return all;
}

export function Unsupported({ run }: { run: Run }) {
  const all = unsupported(run);
  if (all.length === 0) return null;
  return (
    <Sheet title="What could not run">
      <ul>
        {all.map((u) => (
          <li
            key={`${u.pane} ${u.why}`}
            className="grid grid-cols-[auto_1fr] gap-x-3 border-t border-line px-4 py-3 first:border-t-0"
          >
            <Glass fill="unsupported" size={18} />
            <div className="min-w-0">
              <p>
                <span className="font-medium">{many(u.tests, "test")}</span> on {run.panes[u.pane]?.label}
              </p>
              <p className="text-sm whitespace-pre-wrap text-soft">{u.why}</p>
            </div>
          </li>
        ))}
      </ul>
    </Sheet>
  );
}
