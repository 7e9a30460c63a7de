import type { Run } from "../../api/client";
import { type Fill, fillOf, fills, Glass, inkOf, said } from "../../ui/Glass";
import { Sheet } from "../../ui/parts";
import { many } from "../../ui/words";
import { TestLink } from "./TestLink";

interface Fault {
  fill: Fill;
  test: number;
  message: string;
  panes: number[];
  tests: number; // how many it is true of
}

/**
 * What went wrong, each thing once with every pane on which it was seen. What no agent can run is a matter of the
 * combination: it is told once for each, with its number of tests.
 */
export function faultsOf(run: Run): Fault[] {
  const all: Fault[] = [];
  for (const t of run.tests) {
    for (const p of run.panes) {
      const c = run.cells[p.index]?.[t.index];
      if (!c) continue;
      const fill = fillOf(c.state, c.verdict);
      if (!["failed", "lab-fault", "flaky", "unsupported"].includes(fill)) continue;
      const message = c.why || c.message;
      if (fill === "unsupported") {
        const same = all.find((f) => f.fill === fill && f.panes[0] === p.index && f.message === message);
        if (same) same.tests++;
        else all.push({ fill, test: t.index, message, panes: [p.index], tests: 1 });
        continue;
      }
      const same = all.find((f) => f.test === t.index && f.fill === fill && f.message === message);
      if (same) same.panes.push(p.index);
      else all.push({ fill, test: t.index, message, panes: [p.index], tests: 1 });
    }
  }
  return all.sort((a, b) => fills.indexOf(a.fill) - fills.indexOf(b.fill));
}

export function Faults({ run }: { run: Run }) {
  const faults = faultsOf(run);
  if (faults.length === 0) return null;
  return (
    <Sheet title="What went wrong">
      <ul>
        {faults.map((f) => (
          <li
            key={`${f.test}-${f.fill}-${f.panes[0]}-${f.message}`}
            className="grid grid-cols-[auto_1fr] gap-x-3 border-t border-line px-4 py-3 first:border-t-0"
          >
            <Glass fill={f.fill} size={18} />
            <div className="min-w-0">
              <p>
                <span className={inkOf[f.fill]}>{said(f.fill)}</span>{" "}
                {f.fill === "unsupported" ? (
                  <span className="font-medium">{many(f.tests, "test")}</span>
                ) : (
                  <TestLink
                    run={run.number}
                    test={f.test}
                    pane={f.panes[0]}
                    className="font-medium hover:underline"
                  >
                    {run.tests[f.test]?.name}
                  </TestLink>
                )}
              </p>
              <p className="text-sm text-soft">
                {f.fill === "flaky" ? "failed first on " : "on "}
                {f.panes.map((i, k) => (
                  <span key={i}>
                    {k > 0 && ", "}
                    <TestLink
                      run={run.number}
                      test={f.test}
                      pane={i}
                      className="underline decoration-line underline-offset-2 hover:decoration-accent"
                    >
                      {run.panes[i]?.label}
                    </TestLink>
                  </span>
                ))}
              </p>
              <pre className="mt-1 overflow-x-auto whitespace-pre-wrap font-mono text-xs">{f.message}</pre>
            </div>
          </li>
        ))}
      </ul>
    </Sheet>
  );
}
