import type { Run } from "../../api/client";
import { type Fill, fillOf, fills, Glass, inkOf, said } from "../../ui/Glass";
import { Sheet } from "../../ui/parts";
import { TestLink } from "./TestLink";

interface Fault {
  fill: Fill;
  test: number;
  message: string;
  panes: number[];
}

/** What went wrong, each thing once with every pane on which it was seen. */
function faultsOf(run: Run): Fault[] {
  const all: Fault[] = [];
  for (const t of run.tests) {
    for (const p of run.panes) {
      const c = run.cells[p.index]?.[t.index];
      if (!c) continue;
      const fill = fillOf(c.state, c.verdict);
      if (!["failed", "lab-fault", "flaky", "unsupported"].includes(fill)) continue;
      const message = c.why || c.message;
      const same = all.find((f) => f.test === t.index && f.fill === fill && f.message === message);
      if (same) same.panes.push(p.index);
      else all.push({ fill, test: t.index, message, panes: [p.index] });
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
            key={`${f.test}-${f.fill}-${f.message}`}
            className="grid grid-cols-[auto_1fr] gap-x-3 border-t border-line px-4 py-3 first:border-t-0"
          >
            <Glass fill={f.fill} size={18} />
            <div className="min-w-0">
              <p>
                <span className={inkOf[f.fill]}>{said(f.fill)}</span>{" "}
                <TestLink
                  run={run.number}
                  test={f.test}
                  pane={f.panes[0]}
                  className="font-medium hover:underline"
                >
                  {run.tests[f.test]?.name}
                </TestLink>
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
