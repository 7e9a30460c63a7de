import { useMemo } from "react";
import type { Cause, Pane, Run, Test } from "../../api/client";
import { type Fill, fillOf, Legend } from "../../ui/Glass";
import { Choice, Empty, Sheet } from "../../ui/parts";
import { Find } from "../../ui/Find";
import { useFilters } from "../../ui/useFilters";
import { WallGrid } from "./WallGrid";

const trouble = ["failed", "lab-fault", "flaky", "aside"];

/** Whether a test came to one thing in one pane, and to another in another. */
function differs(run: Run, test: Test, panes: Pane[]): boolean {
  const fills = new Set<Fill>();
  for (const p of panes) {
    const c = run.cells[p.index]?.[test.index];
    if (c && c.state === "ended") fills.add(fillOf(c.state, c.verdict));
  }
  return fills.size > 1;
}

/** The tests of a wall that match a text, and that came to something in one of the panes. */
export function sought(run: Run, only: string | null, text: string, show: string): Test[] {
  const panes = run.panes.filter((p) => only === null || p.key === only);
  const part = text.toLowerCase();
  return run.tests.filter(
    (t) =>
      `${t.name} ${t.file} ${t.tags.join(" ")}`.toLowerCase().includes(part) &&
      (show === "" ||
        (show === "differs" && differs(run, t, panes)) ||
        panes.some((p) => {
          const c = run.cells[p.index]?.[t.index];
          if (!c || c.state === "undealt") return false;
          const fill = fillOf(c.state, c.verdict);
          return show === "trouble" ? trouble.includes(fill) : fill === show;
        })),
  );
}

/** Tests in another order than the suite's: by cause, the weightiest first; by what they took; by file, or by tag. */
export function ordered(run: Run, tests: Test[], order: string, causes: Cause[]): Test[] {
  const by = (key: (t: Test) => number | string) =>
    tests.toSorted((a, b) => {
      const [x, y] = [key(a), key(b)];
      return x < y ? -1 : x > y ? 1 : a.index - b.index;
    });
  switch (order) {
    case "cause": {
      const first = new Map<number, number>();
      causes.forEach((c, i) => {
        for (const at of c.cells) if (!first.has(at.test)) first.set(at.test, i);
      });
      return by((t) => first.get(t.index) ?? causes.length);
    }
    case "slow":
      return by((t) => -Math.max(...run.cells.map((row) => row[t.index]?.took_ms ?? 0)));
    case "file":
      return by((t) => t.file);
    case "tag":
      return by((t) => t.tags[0] ?? "\uffff");
  }
  return tests;
}

/** Tests down, combinations across. */
export function Wall({
  run,
  only,
  cause,
  causes,
}: {
  run: Run;
  only: string | null;
  cause: Cause | undefined;
  causes: Cause[];
}) {
  const filters = useFilters();
  const text = filters.value("text");
  const show = filters.value("show");
  const order = filters.value("order");
  const panes = useMemo(() => run.panes.filter((p) => only === null || p.key === only), [run.panes, only]);
  const tests = useMemo(() => {
    const of = cause && new Set(cause.cells.map((at) => at.test));
    const found = sought(run, only, text, show).filter((t) => !of || of.has(t.index));
    return ordered(run, found, order, causes);
  }, [run, only, text, show, cause, order, causes]);
  const present = new Set<Fill>();
  for (const [verdict, n] of Object.entries(run.counts)) if (n > 0 && verdict) present.add(verdict as Fill);
  if ((run.counts[""] ?? 0) > 0) present.add("queued");
  if (run.panes.some((p) => p.running > 0)) present.add("running");
  return (
    <Sheet
      title={
        cause
          ? `Wall: ${cause.tests.length === 1 ? "the test" : `the ${cause.tests.length} tests`} of one cause`
          : "Wall"
      }
      aside={
        <div className="flex items-center gap-2">
          <Find filters={filters} label="Find test, file or tag" size={24} />
          <Choice
            label="Order"
            value={order}
            onChange={(v) => {
              filters.set("order", v);
            }}
            options={[
              ["", "as in the suite"],
              ["cause", "by cause"],
              ["slow", "slowest first"],
              ["file", "by file"],
              ["tag", "by tag"],
            ]}
          />
          <Choice
            label="Show"
            value={show}
            onChange={(v) => {
              filters.set("show", v);
            }}
            options={[
              ["", "every test"],
              ["trouble", "failed, flaky or the lab's fault"],
              ["differs", "what differs between combinations"],
              ["passed", "passed somewhere"],
              ["running", "running"],
              ["queued", "queued"],
            ]}
          />
        </div>
      }
    >
      {tests.length === 0 || panes.length === 0 ? (
        <Empty title="No test matches">Change the text or what is shown.</Empty>
      ) : (
        <WallGrid run={run} tests={tests} panes={panes} />
      )}
      <footer className="border-t border-line px-4 py-2.5">
        <Legend present={present} />
      </footer>
    </Sheet>
  );
}
