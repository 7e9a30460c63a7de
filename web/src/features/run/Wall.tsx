import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { get, type Cause, type Pane, type Past, type Run, type Test } from "../../api/client";
import { type Fill, fillOf, Legend } from "../../ui/Glass";
import { Choice, Empty, Sheet, Trouble } from "../../ui/parts";
import { Find } from "../../ui/Find";
import { useFilters } from "../../ui/useFilters";
import { many } from "../../ui/words";
import { type Line, WallGrid } from "./WallGrid";

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

/** Tests in the order that is asked for: the suite's, or the slowest first. */
export function ordered(run: Run, tests: Test[], order: string): Test[] {
  if (order !== "slow") return tests;
  const longest = (t: Test) => Math.max(...run.cells.map((row) => row[t.index]?.took_ms ?? 0));
  return tests.toSorted((a, b) => longest(b) - longest(a) || a.index - b.index);
}

/** The lines of a wall: tests below headings, by cause, the weightiest first, by directory or by tag. */
export function grouped(tests: Test[], group: string, causes: Cause[]): Line[] {
  if (group === "") return tests.map((test) => ({ test }));
  const groups = new Map<string, Test[]>();
  const into = (key: string, t: Test) => groups.set(key, [...(groups.get(key) ?? []), t]);
  const other = { cause: "without a cause", directory: "", tag: "without a tag" }[group] ?? "";
  if (group === "cause") {
    for (const c of causes) {
      const of = new Set(c.cells.map((at) => at.test));
      for (const t of tests) if (of.has(t.index)) into(c.sentence, t);
    }
    const some = new Set(causes.flatMap((c) => c.cells.map((at) => at.test)));
    for (const t of tests) if (!some.has(t.index)) into(other, t);
  } else {
    for (const t of tests) {
      if (group === "tag") (t.tags.length > 0 ? t.tags : [other]).forEach((tag) => into(tag, t));
      else into(t.file.split("/").slice(0, -1).join("/") || "./", t);
    }
  }
  const names = [...groups.keys()];
  if (group !== "cause") names.sort((a, b) => Number(a === other) - Number(b === other) || (a < b ? -1 : 1));
  return names.flatMap((heading) => {
    const of = groups.get(heading) ?? [];
    return [{ heading, about: many(of.length, "test") }, ...of.map((test) => ({ test }))];
  });
}

/** Panes by the value of an axis, and where in them another value begins. */
export function columnsBy(panes: Pane[], axis: string): [Pane[], Set<number>] {
  if (axis === "") return [panes, new Set()];
  const of = (p: Pane) => p.values[axis] ?? "";
  const first = new Map<string, number>();
  panes.forEach((p, i) => {
    if (!first.has(of(p))) first.set(of(p), i);
  });
  const sorted = panes.toSorted((a, b) => (first.get(of(a)) ?? 0) - (first.get(of(b)) ?? 0));
  const begins = new Set<number>();
  sorted.forEach((p, i) => {
    const before = sorted[i - 1];
    if (before && of(before) !== of(p)) begins.add(i);
  });
  return [sorted, begins];
}

/** The axes of which a run's panes have several values. */
function axesOf(run: Run): string[] {
  const values = new Map<string, Set<string>>();
  for (const p of run.panes)
    for (const [axis, v] of Object.entries(p.values))
      values.set(axis, (values.get(axis) ?? new Set()).add(v));
  return [...values].filter(([, v]) => v.size > 1).map(([axis]) => axis);
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
  const group = filters.value("group");
  const axis = filters.value("axis");
  const without = filters.value("past") === "no";
  const [panes, begins] = useMemo(
    () =>
      columnsBy(
        run.panes.filter((p) => only === null || p.key === only),
        axis,
      ),
    [run.panes, only, axis],
  );
  const lines = useMemo(() => {
    const of = cause && new Set(cause.cells.map((at) => at.test));
    const found = sought(run, only, text, show).filter((t) => !of || of.has(t.index));
    return grouped(ordered(run, found, order), group, causes);
  }, [run, only, text, show, cause, order, group, causes]);
  const past = useQuery({
    queryKey: ["past", run.number, run.state],
    queryFn: () => get<Past>(`/runs/${run.number}/past`),
    enabled: !without && run.kind === "script",
    placeholderData: keepPreviousData,
  });
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
            label="Group tests"
            value={group}
            onChange={(v) => {
              filters.set("group", v);
            }}
            options={[
              ["", "tests as in the suite"],
              ["cause", "tests by cause"],
              ["directory", "tests by directory"],
              ["tag", "tests by tag"],
            ]}
          />
          <Choice
            label="Order"
            value={order}
            onChange={(v) => {
              filters.set("order", v);
            }}
            options={[
              ["", "in order"],
              ["slow", "slowest first"],
            ]}
          />
          {axesOf(run).length > 1 && (
            <Choice
              label="Group combinations"
              value={axis}
              onChange={(v) => {
                filters.set("axis", v);
              }}
              options={[
                ["", "combinations in order"],
                ...axesOf(run).map((a): [string, string] => [a, `by ${a}`]),
              ]}
            />
          )}
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
      {lines.length === 0 || panes.length === 0 ? (
        <Empty title="No test matches">Change the text or what is shown.</Empty>
      ) : (
        <WallGrid
          run={run}
          lines={lines}
          panes={panes}
          begins={begins}
          past={without ? undefined : past.data?.strips}
        />
      )}
      <footer className="border-t border-line px-4 py-2.5">
        <div className="flex flex-wrap items-center gap-x-4 gap-y-1">
          <Legend present={present} />
          {run.kind === "script" && (
            <button
              type="button"
              aria-pressed={!without}
              className="ml-auto text-xs text-soft hover:underline"
              onClick={() => {
                filters.set("past", without ? "" : "no");
              }}
            >
              {without
                ? "Show the last twenty runs of each cell"
                : "Below each cell its last twenty runs: ▁ passed, ▄ flaky, █ failed. Hide"}
            </button>
          )}
        </div>
        {past.error && <Trouble error={past.error} again={() => void past.refetch()} />}
      </footer>
    </Sheet>
  );
}
