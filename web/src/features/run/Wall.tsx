import { useState, type ReactNode } from "react";
import { Link } from "react-router";
import type { Cell, Run } from "../../api/client";
import { type Fill, fillOf, Glass, Legend, said } from "../../ui/Glass";
import { Choice, Empty, Field, Hint, Sheet } from "../../ui/parts";
import { took } from "../../ui/words";
import { TestLink } from "./TestLink";

const cellLook = "inline-flex items-center gap-2 rounded px-1 py-0.5";

/** A script's cell leads to its steps, a runner's to its session. */
function To({
  run,
  pane,
  test,
  session,
  label,
  children,
}: {
  run: Run;
  pane: number;
  test: number;
  session: string;
  label: string;
  children: ReactNode;
}) {
  if (run.kind === "remote" && session !== "")
    return (
      <Link to={`/sessions/${session}`} aria-label={label} className={cellLook}>
        {children}
      </Link>
    );
  return (
    <TestLink run={run.number} test={test} pane={pane} label={label} className={cellLook}>
      {children}
    </TestLink>
  );
}

/** Tests down, combinations across. */
export function Wall({ run, only }: { run: Run; only: string | null }) {
  const [text, setText] = useState("");
  const [show, setShow] = useState("");
  const panes = run.panes.filter((p) => only === null || p.key === only);
  const cell = (pane: number, test: number): Cell | undefined => run.cells[pane]?.[test];
  const present = new Set<Fill>();
  for (const column of run.cells)
    for (const c of column) if (c.state !== "undealt") present.add(fillOf(c.state, c.verdict));
  const tests = run.tests.filter(
    (t) =>
      `${t.name} ${t.file} ${t.tags.join(" ")}`.toLowerCase().includes(text.toLowerCase()) &&
      (show === "" ||
        panes.some((p) => {
          const c = cell(p.index, t.index);
          if (!c || c.state === "undealt") return false;
          const fill = fillOf(c.state, c.verdict);
          return show === "trouble" ? ["failed", "lab-fault", "flaky"].includes(fill) : fill === show;
        })),
  );
  return (
    <Sheet
      title="Wall"
      aside={
        <div className="flex items-center gap-2">
          <Field
            label="Find test, file or tag"
            value={text}
            onChange={(e) => {
              setText(e.target.value);
            }}
          />
          <Choice
            label="Show"
            value={show}
            onChange={setShow}
            options={[
              ["", "every test"],
              ["trouble", "failed, flaky or the lab's fault"],
              ["passed", "passed somewhere"],
              ["running", "running"],
              ["queued", "queued"],
            ]}
          />
        </div>
      }
    >
      {tests.length === 0 ? (
        <Empty title="No test matches">Change the text or what is shown.</Empty>
      ) : (
        <div className="overflow-x-auto">
          <table className="w-full text-left">
            <thead>
              <tr className="align-bottom text-xs text-soft">
                <th className="sticky left-0 bg-sheet px-4 py-2 font-normal">Test</th>
                {panes.map((p) => (
                  <th key={p.key} className="px-3 py-2 font-normal">
                    {p.label.split(" · ").map((part) => (
                      <span key={part} className="block">
                        {part}
                      </span>
                    ))}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {tests.map((t) => (
                <tr key={t.index} className="border-t border-line hover:bg-raised/40">
                  <td className="sticky left-0 min-w-64 bg-sheet px-4 py-2">
                    <TestLink run={run.number} test={t.index} className="hover:underline">
                      {t.name}
                    </TestLink>
                    <span className="ml-2 text-xs text-soft">{t.tags.join(" ")}</span>
                  </td>
                  {panes.map((p) => (
                    <td key={p.key} className="px-3">
                      <CellLink run={run} pane={p.index} test={t.index} cell={cell(p.index, t.index)} />
                    </td>
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      <footer className="border-t border-line px-4 py-2.5">
        <Legend present={present} />
      </footer>
    </Sheet>
  );
}

function CellLink({
  run,
  pane,
  test,
  cell,
}: {
  run: Run;
  pane: number;
  test: number;
  cell: Cell | undefined;
}) {
  if (!cell || cell.state === "undealt") return null;
  const fill = fillOf(cell.state, cell.verdict);
  const lines = [
    fill,
    cell.agent && `on ${cell.agent}`,
    cell.attempts > 1 && `${cell.attempts} attempts`,
    cell.why || (fill === "passed" ? "" : cell.message),
  ];
  const label = run.panes[pane]?.label ?? "";
  return (
    <Hint text={lines.filter(Boolean).join("\n")}>
      <span>
        <To run={run} pane={pane} test={test} session={cell.session} label={`${label}: ${said(fill)}`}>
          <Glass fill={fill} size={18} />
          <span className="text-xs whitespace-nowrap text-soft">
            {cell.took_ms > 0 ? took(cell.took_ms) : ""}
            {cell.attempts > 1 ? ` ×${cell.attempts}` : ""}
          </span>
        </To>
      </span>
    </Hint>
  );
}
