import { useQuery } from "@tanstack/react-query";
import { scaleLinear } from "d3-scale";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { post, type Forecast } from "../../api/client";
import { Field, Labelled, Sheet, Trouble, Waiting } from "../../ui/parts";
import { took } from "../../ui/words";
import { useTitle } from "../../ui/useTitle";

const more = [0, 1, 2, 3, 4, 6, 8, 12, 16];

/** When would this run end now, and would more agents help? */
export function ForecastPage() {
  const { number = "" } = useParams();
  useTitle(`#${number}`, "Forecast");
  const [limit, setLimit] = useState("");
  const f = useQuery({
    queryKey: ["forecast", number, limit],
    queryFn: () => post<Forecast>("/forecasts", { run: Number(number), limit: Number(limit) || 0, more }),
    placeholderData: (old) => old,
  });
  if (f.isPending) return <Waiting />;
  if (f.error) return <Trouble error={f.error} again={() => void f.refetch()} />;
  const d = f.data;
  const four = d.what_if.find((k) => k.agents === (d.what_if[0]?.agents ?? 0) + 4);
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <div className="flex flex-wrap items-end gap-6">
        <div>
          <h1 className="text-lg font-semibold">
            If{" "}
            <Link to={`/runs/${number}`} className="hover:underline">
              run #{number}
            </Link>{" "}
            were run again now
          </h1>
          <p className="text-sm text-soft">
            The scheduler in virtual time, with the durations the run had, on the agents that take work now.
          </p>
        </div>
        <div className="ml-auto">
          <Labelled label="most slots at once">
            <Field
              label="all"
              type="number"
              min={0}
              size={8}
              value={limit}
              onChange={(e) => {
                setLimit(e.target.value);
              }}
            />
          </Labelled>
        </div>
      </div>
      <dl className="flex flex-wrap gap-8 text-sm">
        {(
          [
            ["would end after", took(d.makespan_s * 1000)],
            ["no schedule could end before", took(d.lower_bound_s * 1000)],
            ["slots busy", `${Math.round(d.utilisation * 100)} %`],
            ["with four more agents", four ? took(four.makespan_s * 1000) : "–"],
            ["knee", d.knee > 0 ? `${d.knee} agents: each further one saves little` : "–"],
          ] as const
        ).map(([k, v]) => (
          <div key={k}>
            <dt className="text-xs text-soft">{k}</dt>
            <dd className="text-base">{v}</dd>
          </div>
        ))}
      </dl>
      {d.impossible.length > 0 && (
        <p className="text-sm text-failed">
          {d.impossible.length} tests could run nowhere now, such as {d.impossible[0]?.id}:{" "}
          {d.impossible[0]?.why}
        </p>
      )}
      <Sheet title="Time to the end, by the number of agents">
        <Curve d={d} />
      </Sheet>
    </div>
  );
}

function Curve({ d }: { d: Forecast }) {
  const w = 1200,
    h = 360,
    pad = 76;
  const rows = d.what_if;
  const first = rows[0],
    last = rows[rows.length - 1];
  if (!first || !last) return null;
  const x = scaleLinear()
    .domain([first.agents, last.agents])
    .range([pad, w - pad]);
  const y = scaleLinear()
    .domain([0, Math.max(...rows.map((r) => r.makespan_s)) * 1.08])
    .range([h - 56, 16]);
  const line = (of: (r: (typeof rows)[number]) => number) =>
    rows.map((r, i) => `${i ? "L" : "M"}${x(r.agents)} ${y(of(r))}`).join("");
  return (
    <svg
      viewBox={`0 0 ${w} ${h}`}
      className="block w-full"
      role="img"
      aria-label="Time to the end by the number of agents"
    >
      {y.ticks(6).map((v) => (
        <g key={v}>
          <line x1={pad} x2={w - pad} y1={y(v)} y2={y(v)} stroke="var(--line)" />
          <text x={pad - 8} y={y(v) + 4} fontSize="12" textAnchor="end" fill="var(--soft)">
            {took(v * 1000)}
          </text>
        </g>
      ))}
      {rows.map((r) => (
        <text key={r.agents} x={x(r.agents)} y={h - 36} fontSize="12" textAnchor="middle" fill="var(--soft)">
          {r.agents}
        </text>
      ))}
      <text x={w / 2} y={h - 12} fontSize="12" textAnchor="middle" fill="var(--soft)">
        agents, each further one a copy of the one that helps most
      </text>
      {d.knee > 0 && (
        <>
          <line
            x1={x(d.knee)}
            x2={x(d.knee)}
            y1={16}
            y2={h - 56}
            stroke="var(--accent)"
            strokeDasharray="5 4"
          />
          <text x={x(d.knee) + 6} y={28} fontSize="12" fill="var(--accent)">
            knee
          </text>
        </>
      )}
      <path
        d={line((r) => r.lower_bound_s)}
        fill="none"
        stroke="var(--soft)"
        strokeWidth="1.5"
        strokeDasharray="4 4"
      />
      <path d={line((r) => r.makespan_s)} fill="none" stroke="var(--accent)" strokeWidth="2.5" />
      {rows.map((r) => (
        <circle key={r.agents} cx={x(r.agents)} cy={y(r.makespan_s)} r="4.5" fill="var(--accent)">
          <title>{`${r.agents} agents, ${r.slots} slots: ${took(r.makespan_s * 1000)}; bound ${took(r.lower_bound_s * 1000)}\n${Object.entries(
            r.copies,
          )
            .map(([name, n]) => `${n} like ${name}`)
            .join(", ")}`}</title>
        </circle>
      ))}
      <text x={w - pad} y={y(last.makespan_s) - 10} fontSize="12" textAnchor="end" fill="var(--accent)">
        forecast
      </text>
      <text x={w - pad} y={y(last.lower_bound_s) + 16} fontSize="12" textAnchor="end" fill="var(--soft)">
        lower bound
      </text>
    </svg>
  );
}
