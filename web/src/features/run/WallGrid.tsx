import { useVirtualizer } from "@tanstack/react-virtual";
import { memo, useMemo, useRef, useState, type KeyboardEvent, type MouseEvent } from "react";
import { useNavigate } from "react-router";
import type { Cell, Pane, Run, Test } from "../../api/client";
import { fillOf, GlassMark, said } from "../../ui/Glass";
import { took } from "../../ui/words";

const plain = 37;
const withPast = 47;
const narrowest = 104;

/** What a row of a wall shows: a test, or the heading of those below it. */
export type Line = { test: Test } | { heading: string; about: string };

/** The last runs of each cell, by pane and test, a letter for each run. */
export type Strips = string[][];

/** Columns and rows come into sight so many at a time: while one scrolls, most frames change nothing. */
const together = 4;
const rowsTogether = 8;

/** The columns of a wall: where each begins and how wide it is, in CSS pixels. */
type Columns = { start: number; size: number }[];

/** How wide a pane's column must be for the longest part of its label. */
function widthOf(pane: Pane): number {
  const longest = Math.max(...pane.label.split(" · ").map((part) => part.length));
  return Math.min(220, Math.max(narrowest, longest * 7 + 26));
}

/** How wide the column of names must be, within bounds. */
function namesWidthOf(tests: Test[]): number {
  const longest = Math.max(...tests.map((t) => t.name.length * 7.6 + t.tags.join(" ").length * 6.4));
  return Math.round(Math.min(440, Math.max(200, longest + 52)));
}

/** A cell that the pointer is over, or that has the focus. */
interface Pointed {
  pane: number;
  test: number;
  at: DOMRect;
}

function pointed(target: EventTarget): Pointed | null {
  const cell = target instanceof Element ? target.closest<HTMLElement>("a[data-pane]") : null;
  if (!cell) return null;
  return {
    pane: Number(cell.dataset["pane"]),
    test: Number(cell.dataset["test"]),
    at: cell.getBoundingClientRect(),
  };
}

/** Tests down, combinations across; only what is in sight is drawn, so that any number of them is quick. */
export function WallGrid({
  run,
  lines: all,
  panes,
  begins,
  past,
}: {
  run: Run;
  lines: Line[];
  panes: Pane[];
  begins: Set<number>;
  past: Strips | undefined;
}) {
  const rowHeight = past ? withPast : plain;
  const go = useNavigate();
  const scroller = useRef<HTMLDivElement>(null);
  const [hinted, setHinted] = useState<Pointed | null>(null);
  const widths = useMemo(() => panes.map(widthOf), [panes]);
  const namesWidth = useMemo(() => namesWidthOf(run.tests), [run.tests]);
  const head = 18 + 16 * Math.max(...panes.map((p) => p.label.split(" · ").length));
  // eslint-disable-next-line react-hooks/incompatible-library -- no compiler memoises parts here
  const rows = useVirtualizer({
    count: all.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => rowHeight,
    overscan: 4,
    scrollPaddingStart: head,
    useFlushSync: false,
  });
  const columns = useVirtualizer({
    horizontal: true,
    count: panes.length,
    getScrollElement: () => scroller.current,
    estimateSize: (i) => widths[i] ?? narrowest,
    overscan: 1,
    scrollPaddingStart: namesWidth,
    useFlushSync: false,
  });
  const seen = rows.getVirtualItems();
  const from = Math.floor((seen[0]?.index ?? 0) / rowsTogether) * rowsTogether;
  const to = Math.ceil(((seen.at(-1)?.index ?? -1) + 1) / rowsTogether) * rowsTogether;
  const lines = all.slice(from, to);
  const above = from * rowHeight;
  const inSight = columns.getVirtualItems();
  const first = Math.floor((inSight[0]?.index ?? 0) / together);
  const last = Math.floor((inSight.at(-1)?.index ?? 0) / together);
  const groups = useMemo(() => Array.from({ length: last - first + 1 }, (_, i) => first + i), [first, last]);
  const places = useMemo(() => {
    let start = namesWidth;
    return widths.map((size) => ({ start: (start += size) - size, size }));
  }, [widths, namesWidth]);
  const width = namesWidth + columns.getTotalSize();
  const point = (target: EventTarget) => {
    const now = pointed(target);
    if (now?.pane !== hinted?.pane || now?.test !== hinted?.test) setHinted(now);
  };
  const hide = () => {
    setHinted(null);
  };
  // Arrow keys go from cell to cell; what is out of sight comes into sight first.
  const step = (e: KeyboardEvent) => {
    const way = { ArrowUp: [0, -1], ArrowDown: [0, 1], ArrowLeft: [-1, 0], ArrowRight: [1, 0] }[e.key];
    const from = pointed(e.target);
    if (!way || !from) return;
    const [across = 0, down = 0] = way;
    let column = panes.findIndex((p) => p.index === from.pane) + across;
    let row = all.findIndex((l) => "test" in l && l.test.index === from.test) + down;
    let pane = panes[column];
    let line = all[row];
    while (pane && line && !("test" in line && isThere(run, pane, line.test))) {
      pane = panes[(column += across)];
      line = all[(row += down)];
    }
    const test = line && "test" in line ? line.test : undefined;
    if (!pane || !test) return;
    const place = `a[data-pane="${pane.index}"][data-test="${test.index}"]`;
    e.preventDefault();
    rows.scrollToIndex(row);
    columns.scrollToIndex(column);
    const find = () => scroller.current?.querySelector<HTMLElement>(place);
    const there = find();
    if (there) there.focus({ preventScroll: false });
    else requestAnimationFrame(() => requestAnimationFrame(() => find()?.focus()));
  };
  // The links are plain ones: a plain click on any of them stays in the console.
  const follow = (e: MouseEvent) => {
    const link = e.target instanceof Element ? e.target.closest("a") : null;
    if (!link || e.button !== 0 || e.metaKey || e.ctrlKey || e.shiftKey || e.altKey) return;
    e.preventDefault();
    void go(link.getAttribute("href") ?? "");
  };
  return (
    <>
      <div
        ref={scroller}
        role="table"
        aria-label="Wall"
        aria-rowcount={all.length + 1}
        aria-colcount={panes.length + 1}
        className="max-h-[calc(100vh-9rem)] overflow-auto bg-sheet [contain:strict] will-change-scroll"
        style={{ height: head + all.length * rowHeight + 14 }}
        onClick={follow}
        onPointerOver={(e) => {
          point(e.target);
        }}
        onPointerLeave={hide}
        onFocus={(e) => {
          point(e.target);
        }}
        onBlur={hide}
        onScroll={hide}
        onKeyDown={(e) => {
          if (e.key === "Escape") hide();
          step(e);
        }}
      >
        <div className="relative" style={{ width, minWidth: "100%", height: head + rows.getTotalSize() }}>
          <Heads
            panes={panes}
            groups={groups}
            places={places}
            names={namesWidth}
            height={head}
            width={width}
            begins={begins}
          />
          {/* Names and rows stand in the flow, below what is out of sight: each positioned element is a layer, and slow. */}
          <div
            className="sticky left-0 z-[5] bg-sheet"
            style={{ width: namesWidth, height: rows.getTotalSize(), paddingTop: above }}
          >
            {lines.map((l, i) =>
              "test" in l ? (
                <Name key={l.test.index} run={run.number} test={l.test} height={rowHeight} />
              ) : (
                <Heading key={`${from + i} ${l.heading}`} of={l} height={rowHeight} />
              ),
            )}
          </div>
          <div className="absolute" style={{ left: 0, top: head + above, width, minWidth: "100%" }}>
            {lines.map((l, i) =>
              "test" in l ? (
                <Row
                  key={l.test.index}
                  run={run.number}
                  remote={run.kind === "remote"}
                  test={l.test.index}
                  at={from + i}
                  panes={panes}
                  groups={groups}
                  places={places}
                  cells={run.cells}
                  begins={begins}
                  past={past}
                  height={rowHeight}
                />
              ) : (
                <div
                  key={`${from + i} ${l.heading}`}
                  className="border-b border-line bg-raised"
                  style={{ height: rowHeight }}
                />
              ),
            )}
          </div>
        </div>
      </div>
      {hinted && (
        <CellHint
          cell={run.cells[hinted.pane]?.[hinted.test]}
          strip={past?.[hinted.pane]?.[hinted.test] ?? ""}
          at={hinted.at}
        />
      )}
    </>
  );
}

const isThere = (run: Run, pane: Pane, test: Test) => {
  const cell = run.cells[pane.index]?.[test.index];
  return cell !== undefined && cell.state !== "undealt";
};

/** The indexes of the columns of a group. */
const columnsOf = (group: number, panes: Pane[]): number[] =>
  Array.from({ length: Math.min(together, panes.length - group * together) }, (_, i) => group * together + i);

const Heads = memo(function Heads({
  panes,
  groups,
  places,
  names,
  height,
  width,
  begins,
}: {
  panes: Pane[];
  groups: number[];
  places: Columns;
  names: number;
  height: number;
  width: number;
  begins: Set<number>;
}) {
  return (
    <div
      role="row"
      aria-rowindex={1}
      className="sticky top-0 z-10 border-b border-line bg-sheet text-xs text-soft"
      style={{ height, minWidth: width }}
    >
      <div
        role="columnheader"
        className="sticky left-0 z-10 flex h-full items-end bg-sheet px-4 pb-2"
        style={{ width: names }}
      >
        Test
      </div>
      {groups
        .flatMap((g) => columnsOf(g, panes))
        .map((i) => (
          <div
            key={i}
            role="columnheader"
            aria-colindex={i + 2}
            className={`absolute bottom-0 px-3 pb-2 ${begins.has(i) ? "border-l border-line" : ""}`}
            style={{ left: places[i]?.start, width: places[i]?.size }}
            title={panes[i]?.label}
          >
            {panes[i]?.label.split(" · ").map((part) => (
              <span key={part} className="block truncate">
                {part}
              </span>
            ))}
          </div>
        ))}
    </div>
  );
});

/** What a row of a wall needs to draw its cells. */
interface Cells {
  run: number;
  remote: boolean;
  test: number;
  panes: Pane[];
  places: Columns;
  cells: Cell[][];
  begins: Set<number>;
  past: Strips | undefined;
}

const nameOf = (test: number) => `wall-test-${test}`;

const Heading = memo(function Heading({
  of,
  height,
}: {
  of: { heading: string; about: string };
  height: number;
}) {
  return (
    <div
      role="rowheader"
      className="flex w-[56rem] items-end gap-2 border-b border-line bg-raised px-4 pb-1.5"
      style={{ height }}
      title={of.heading}
    >
      <span className="truncate font-medium">{of.heading}</span>
      <span className="text-xs whitespace-nowrap text-soft">{of.about}</span>
    </div>
  );
});

const Name = memo(function Name({ run, test, height }: { run: number; test: Test; height: number }) {
  return (
    <div
      role="rowheader"
      id={nameOf(test.index)}
      className="flex items-center gap-2 border-b border-line px-4"
      style={{ height }}
      title={[test.name, ...test.tags].join(" ")}
    >
      <a href={`/runs/${run}/tests/${test.index}`} className="truncate hover:underline">
        {test.name}
      </a>
      <span className="shrink-[3] truncate text-xs text-soft">{test.tags.join(" ")}</span>
    </div>
  );
});

const Row = memo(function Row({
  at,
  groups,
  height,
  ...cells
}: Cells & { at: number; groups: number[]; height: number }) {
  return (
    <div
      role="row"
      aria-rowindex={at + 2}
      aria-owns={nameOf(cells.test)}
      className="flex border-b border-line"
      style={{ height, paddingLeft: cells.places[(groups[0] ?? 0) * together]?.start }}
    >
      {groups.map((g) => (
        <Group key={g} group={g} {...cells} />
      ))}
    </div>
  );
});

/** The cells of a row in a group of columns. */
const Group = memo(function Group({
  group,
  run,
  remote,
  test,
  panes,
  places,
  cells,
  begins,
  past,
}: Cells & { group: number }) {
  return columnsOf(group, panes).map((i) => {
    const pane = panes[i];
    const cell = pane && cells[pane.index]?.[test];
    const session = remote && cell?.session;
    return (
      <div
        key={i}
        role="cell"
        aria-colindex={i + 2}
        className={begins.has(i) ? "flex-none border-l border-line px-2 pt-[7px]" : "flex-none px-2 pt-[7px]"}
        style={{ width: places[i]?.size }}
      >
        {cell && (
          <CellLink
            href={session ? `/sessions/${session}` : `/runs/${run}/tests/${test}?pane=${pane.index}`}
            pane={pane.index}
            label={pane.label}
            test={test}
            cell={cell}
            strip={past?.[pane.index]?.[test] ?? ""}
          />
        )}
      </div>
    );
  });
});

/** A script's cell leads to its steps, a runner's to its session. */
const CellLink = memo(function CellLink({
  href,
  pane,
  label,
  test,
  cell,
  strip,
}: {
  href: string;
  pane: number;
  label: string;
  test: number;
  cell: Cell;
  strip: string;
}) {
  if (cell.state === "undealt") return null;
  const fill = fillOf(cell.state, cell.verdict);
  return (
    <a
      href={href}
      aria-label={`${label}: ${said(fill)}`}
      data-pane={pane}
      data-test={test}
      className="block rounded px-1 text-xs leading-6 whitespace-nowrap text-soft"
    >
      <GlassMark fill={fill} />
      {cell.took_ms > 0 ? took(cell.took_ms) : ""}
      {cell.attempts > 1 ? ` ×${cell.attempts}` : ""}
      {strip && (
        <span aria-hidden="true" className="mt-0.5 block h-2.5 font-mono text-[8px] leading-[8px]">
          {drawn(strip)}
        </span>
      )}
    </a>
  );
});

const bars: Record<string, string> = { p: "▁", y: "▄", f: "█", a: "▙", l: "┊" };

/** The last runs as one text, a bar for each: what is well lies low, what failed stands out. */
export const drawn = (strip: string): string => Array.from(strip, (l) => bars[l] ?? "·").join("");

const words: [string, string][] = [
  ["p", "passed"],
  ["f", "failed"],
  ["y", "flaky"],
  ["l", "lab fault"],
  ["a", "set aside"],
];

/** The last runs in words. */
function past(strip: string): string {
  const n = (l: string) => strip.split(l).length - 1;
  const all = words.filter(([l]) => n(l) > 0).map(([l, word]) => `${n(l)} ${word}`);
  return strip.length > 1 ? `last ${strip.length} runs: ${all.join(", ")}` : "";
}

/** What one cell says, beside it: the one tooltip of a wall. */
function CellHint({ cell, strip, at }: { cell: Cell | undefined; strip: string; at: DOMRect }) {
  if (!cell) return null;
  const fill = fillOf(cell.state, cell.verdict);
  const lines = [
    said(fill),
    cell.agent && `on ${cell.agent}`,
    cell.attempts > 1 && `${cell.attempts} attempts`,
    cell.why,
    cell.message,
    past(strip),
  ];
  const below = at.top < window.innerHeight / 2;
  return (
    <div
      role="tooltip"
      className="pointer-events-none fixed z-20 max-w-md rounded border border-line bg-raised px-3 py-2 text-xs whitespace-pre-wrap shadow-lg"
      style={{
        left: Math.min(at.left, window.innerWidth - 460),
        ...(below ? { top: at.bottom + 5 } : { bottom: window.innerHeight - at.top + 5 }),
      }}
    >
      {lines.filter(Boolean).join("\n")}
    </div>
  );
}
