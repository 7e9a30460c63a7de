import { useVirtualizer } from "@tanstack/react-virtual";
import { memo, useMemo, useRef, useState } from "react";
import { Link } from "react-router";
import type { Cell, Pane, Run, Test } from "../../api/client";
import { fillOf, Glass, said } from "../../ui/Glass";
import { took } from "../../ui/words";
import { TestLink } from "./TestLink";

const rowHeight = 37;
const namesWidth = 288;

/** How wide a pane's column must be for the longest part of its label. */
function widthOf(pane: Pane): number {
  const longest = Math.max(...pane.label.split(" · ").map((part) => part.length));
  return Math.min(220, Math.max(104, longest * 7 + 26));
}

/** Tests down, combinations across; only what is in sight is drawn, so that any number of them is quick. */
export function WallGrid({ run, tests, panes }: { run: Run; tests: Test[]; panes: Pane[] }) {
  const scroller = useRef<HTMLDivElement>(null);
  const [hinted, setHinted] = useState<{ pane: number; test: number; at: DOMRect } | null>(null);
  const widths = useMemo(() => panes.map(widthOf), [panes]);
  const head = 18 + 16 * Math.max(...panes.map((p) => p.label.split(" · ").length));
  // eslint-disable-next-line react-hooks/incompatible-library -- no compiler memoises parts here
  const rows = useVirtualizer({
    count: tests.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => rowHeight,
    overscan: 6,
    scrollPaddingStart: head,
  });
  const columns = useVirtualizer({
    horizontal: true,
    count: panes.length,
    getScrollElement: () => scroller.current,
    estimateSize: (i) => widths[i] ?? 104,
    getItemKey: (i) => panes[i]?.key ?? i,
    overscan: 2,
    scrollPaddingStart: namesWidth,
  });
  const across = columns.getVirtualItems();
  const width = namesWidth + columns.getTotalSize();
  const point = (target: EventTarget) => {
    const cell = target instanceof Element ? target.closest<HTMLElement>("[data-pane]") : null;
    const now = cell && {
      pane: Number(cell.dataset["pane"]),
      test: Number(cell.dataset["test"]),
      at: cell.getBoundingClientRect(),
    };
    if (now?.pane !== hinted?.pane || now?.test !== hinted?.test) setHinted(now);
  };
  return (
    <>
      <div
        ref={scroller}
        role="table"
        aria-label="Wall"
        aria-rowcount={tests.length + 1}
        aria-colcount={panes.length + 1}
        className="max-h-[calc(100vh-9rem)] overflow-auto [contain:strict]"
        style={{ height: head + tests.length * rowHeight + 14 }}
        onPointerOver={(e) => {
          point(e.target);
        }}
        onPointerLeave={() => {
          setHinted(null);
        }}
        onFocus={(e) => {
          point(e.target);
        }}
        onBlur={() => {
          setHinted(null);
        }}
        onScroll={() => {
          setHinted(null);
        }}
        onKeyDown={(e) => {
          if (e.key === "Escape") setHinted(null);
        }}
      >
        <div className="relative" style={{ width, minWidth: "100%", height: head + rows.getTotalSize() }}>
          <div
            role="row"
            aria-rowindex={1}
            className="sticky top-0 z-10 border-b border-line bg-sheet text-xs text-soft"
            style={{ height: head, minWidth: width }}
          >
            <div
              role="columnheader"
              className="sticky left-0 z-10 flex h-full items-end bg-sheet px-4 pb-2"
              style={{ width: namesWidth }}
            >
              Test
            </div>
            {across.map((c) => (
              <div
                key={c.key}
                role="columnheader"
                aria-colindex={c.index + 2}
                className="absolute bottom-0 px-3 pb-2"
                style={{ left: namesWidth + c.start, width: c.size }}
                title={panes[c.index]?.label}
              >
                {panes[c.index]?.label.split(" · ").map((part) => (
                  <span key={part} className="block truncate">
                    {part}
                  </span>
                ))}
              </div>
            ))}
          </div>
          {rows.getVirtualItems().map((r) => {
            const test = tests[r.index];
            return (
              test && (
                <div
                  key={test.index}
                  role="row"
                  aria-rowindex={r.index + 2}
                  className="absolute left-0 w-full border-b border-line hover:bg-raised/40"
                  style={{ top: head + r.start, height: rowHeight, minWidth: width }}
                >
                  <Name run={run.number} test={test} />
                  {across.map((c) => {
                    const pane = panes[c.index];
                    return (
                      pane && (
                        <div
                          key={c.key}
                          role="cell"
                          aria-colindex={c.index + 2}
                          className="absolute top-0 flex h-full items-center px-2"
                          style={{ left: namesWidth + c.start, width: c.size }}
                        >
                          <CellLink
                            run={run.number}
                            remote={run.kind === "remote"}
                            pane={pane.index}
                            label={pane.label}
                            test={test.index}
                            cell={run.cells[pane.index]?.[test.index]}
                          />
                        </div>
                      )
                    );
                  })}
                </div>
              )
            );
          })}
        </div>
      </div>
      {hinted && <CellHint cell={run.cells[hinted.pane]?.[hinted.test]} at={hinted.at} />}
    </>
  );
}

const Name = memo(function Name({ run, test }: { run: number; test: Test }) {
  return (
    <div
      role="rowheader"
      className="sticky left-0 z-[5] flex h-full items-center gap-2 bg-sheet px-4"
      style={{ width: namesWidth }}
      title={[test.name, ...test.tags].join(" ")}
    >
      <TestLink run={run} test={test.index} className="truncate hover:underline">
        {test.name}
      </TestLink>
      <span className="shrink-[3] truncate text-xs text-soft">{test.tags.join(" ")}</span>
    </div>
  );
});

/** A script's cell leads to its steps, a runner's to its session. */
const CellLink = memo(function CellLink({
  run,
  remote,
  pane,
  label,
  test,
  cell,
}: {
  run: number;
  remote: boolean;
  pane: number;
  label: string;
  test: number;
  cell: Cell | undefined;
}) {
  if (!cell || cell.state === "undealt") return null;
  const fill = fillOf(cell.state, cell.verdict);
  return (
    <Link
      to={remote && cell.session ? `/sessions/${cell.session}` : `/runs/${run}/tests/${test}?pane=${pane}`}
      aria-label={`${label}: ${said(fill)}`}
      data-pane={pane}
      data-test={test}
      className="inline-flex items-center gap-2 rounded px-1 py-0.5"
    >
      <Glass fill={fill} size={18} />
      <span className="text-xs whitespace-nowrap text-soft">
        {cell.took_ms > 0 ? took(cell.took_ms) : ""}
        {cell.attempts > 1 ? ` ×${cell.attempts}` : ""}
      </span>
    </Link>
  );
});

/** What one cell says, beside it: the one tooltip of a wall. */
function CellHint({ cell, at }: { cell: Cell | undefined; at: DOMRect }) {
  if (!cell) return null;
  const fill = fillOf(cell.state, cell.verdict);
  const lines = [
    said(fill),
    cell.agent && `on ${cell.agent}`,
    cell.attempts > 1 && `${cell.attempts} attempts`,
    cell.why || (fill === "passed" ? "" : cell.message),
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
