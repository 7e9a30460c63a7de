import { useQuery } from "@tanstack/react-query";
import { scaleLinear } from "d3-scale";
import { Link, useParams } from "react-router";
import { get, type Bar, type Timeline } from "../../api/client";
import { fillOf, inkOf, said, type Fill } from "../../ui/Glass";
import { Empty, Sheet, Trouble, Waiting } from "../../ui/parts";
import { took } from "../../ui/words";
import { useTitle } from "../../ui/useTitle";

const left = 150,
  right = 30,
  row = 22,
  head = 26,
  width = 1400;

/** Where did the time of this run go? Slots down, time across. */
export function TimelinePage() {
  const { number = "" } = useParams();
  useTitle(`#${number}`, "Timeline");
  const t = useQuery({
    queryKey: ["timeline", number],
    queryFn: () => get<Timeline>(`/runs/${number}/timeline`),
    refetchInterval: (q) => (q.state.data?.state === "ended" ? false : 2000),
  });
  if (t.isPending) return <Waiting />;
  if (t.error) return <Trouble error={t.error} again={() => void t.refetch()} />;
  const d = t.data;
  const busy = d.slots.reduce((n, s) => n + s.bars.reduce((m, b) => m + b.took_ms, 0), 0) / 1000;
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <div className="flex items-baseline gap-4">
        <h1 className="text-lg font-semibold">
          <Link to={`/runs/${d.number}`} className="hover:underline">
            Run #{d.number}
          </Link>
          , slot by slot
        </h1>
        <p className="text-sm text-soft">
          {d.project} {d.suite}
          {d.matrix && ` on ${d.matrix}`}
        </p>
      </div>
      {d.slots.length === 0 ? (
        <Empty title="Nothing has run yet">Bars appear here as soon as the first test has ended.</Empty>
      ) : (
        <>
          <dl className="flex flex-wrap gap-8 text-sm">
            {(
              [
                ["took", took(d.makespan_s * 1000)],
                [
                  "lower bound",
                  `${took(d.lower_bound_s * 1000)}, ${(d.makespan_s / Math.max(d.lower_bound_s, 0.001)).toFixed(2)} times that`,
                ],
                ["slots busy", `${Math.round((100 * busy) / (d.makespan_s * d.slots.length))} %`],
                ["pairs met", `${d.met.met} of ${d.met.pairs} in the last ${d.met.runs} runs`],
              ] as const
            ).map(([k, v]) => (
              <div key={k}>
                <dt className="text-xs text-soft">{k}</dt>
                <dd className="text-base">{v}</dd>
              </div>
            ))}
          </dl>
          <Sheet>
            <Chart d={d} />
          </Sheet>
          <p className="text-xs text-soft">
            A bar is one attempt, a frame one slice: the tests that a slot took in one lease. The dashed line
            is the earliest end that any schedule could have reached with these slots and times.
          </p>
        </>
      )}
    </div>
  );
}

function Chart({ d }: { d: Timeline }) {
  const x = scaleLinear()
    .domain([0, Math.max(d.makespan_s, d.lower_bound_s) * 1000])
    .range([left, width - right]);
  const height = head + d.slots.length * row + 10;
  return (
    <svg
      viewBox={`0 0 ${width} ${height}`}
      className="block w-full"
      role="img"
      aria-label={`Timeline of run ${d.number}`}
    >
      <defs>
        <pattern id="cut" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <rect width="6" height="6" fill="var(--sheet)" />
          <rect width="3" height="6" fill="var(--failed)" />
        </pattern>
      </defs>
      {x.ticks(10).map((v) => (
        <g key={v} className="text-soft">
          <line x1={x(v)} x2={x(v)} y1={head - 6} y2={height} stroke="var(--line)" />
          <text x={x(v)} y={14} fontSize="11" textAnchor="middle" fill="currentColor">
            {took(v)}
          </text>
        </g>
      ))}
      {d.slots.map((s, i) => (
        <g key={`${s.agent} ${s.slot}`} transform={`translate(0 ${head + i * row})`}>
          {s.slot === 1 && (
            <text x={10} y={15} fontSize="12" fill="var(--ink)">
              {s.agent}
            </text>
          )}
          <text x={left - 12} y={15} fontSize="11" textAnchor="end" fill="var(--soft)">
            {s.slot}
          </text>
          {leases(s.bars).map(([lease, from, to]) => (
            <rect
              key={lease}
              x={x(from) - 1}
              y={1}
              width={x(to) - x(from) + 2}
              height={row - 4}
              fill="none"
              stroke="var(--line)"
              rx="2"
            />
          ))}
          {s.bars.map((b) => (
            <Piece
              key={`${b.pane} ${b.test} ${b.attempt}`}
              run={d.number}
              bar={b}
              x={x(b.start_ms)}
              w={Math.max(1.5, x(b.start_ms + b.took_ms) - x(b.start_ms) - 1)}
            />
          ))}
        </g>
      ))}
      <line
        x1={x(d.lower_bound_s * 1000)}
        x2={x(d.lower_bound_s * 1000)}
        y1={head - 6}
        y2={height}
        stroke="var(--accent)"
        strokeWidth="1.5"
        strokeDasharray="5 4"
      />
      <text
        x={x(d.lower_bound_s * 1000) - 5}
        y={head - 1}
        fontSize="11"
        textAnchor="end"
        fill="var(--accent)"
      >
        lower bound
      </text>
    </svg>
  );
}

/** From when to when each slice ran. */
function leases(bars: Bar[]): [number, number, number][] {
  const spans = new Map<number, [number, number]>();
  for (const b of bars) {
    const [from, to] = spans.get(b.lease) ?? [b.start_ms, 0];
    spans.set(b.lease, [Math.min(from, b.start_ms), Math.max(to, b.start_ms + b.took_ms)]);
  }
  return [...spans].map(([lease, [from, to]]) => [lease, from, to]);
}

/** An attempt: full, cut, half or a dashed outline, as panes are. */
function Piece({ run, bar, x, w }: { run: number; bar: Bar; x: number; w: number }) {
  const fill: Fill = fillOf("ended", bar.verdict);
  const how =
    fill === "failed" ? "url(#cut)" : fill === "lab-fault" || fill === "skipped" ? "none" : "currentColor";
  return (
    <Link to={`/runs/${run}/tests/${bar.test}`}>
      <rect
        x={x}
        y={3}
        width={w}
        height={row - 8}
        rx="1"
        className={inkOf[fill]}
        fill={how}
        stroke="currentColor"
        strokeWidth={how === "currentColor" ? 0 : 1}
        strokeDasharray={fill === "lab-fault" ? "3 2" : undefined}
        opacity={0.9}
      >
        <title>{`${bar.name}\n${bar.label}\n${said(bar.verdict)}, attempt ${bar.attempt}, ${took(bar.took_ms)} from ${took(bar.start_ms)} on`}</title>
      </rect>
    </Link>
  );
}
