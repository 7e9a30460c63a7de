import { keepPreviousData, useQuery } from "@tanstack/react-query";
import {
  Bar,
  CartesianGrid,
  ComposedChart,
  Line,
  ResponsiveContainer,
  Tooltip,
  XAxis,
  YAxis,
} from "recharts";
import { get, type TrendDay, type TrendGroup, type Trends } from "../../api/client";
import { said } from "../../ui/Glass";
import { Button, Choice, Empty, Heads, Sheet, Trouble, Waiting } from "../../ui/parts";
import { Tabs } from "../../ui/Tabs";
import { useFilters } from "../../ui/useFilters";
import { useTitle } from "../../ui/useTitle";
import { csvOf, shown } from "./csv";
import { trendPages } from "./pages";

const axes = ["browser", "version", "os", "device", "combination", "test", "suite", "project"];

/** What gets worse? */
export function TrendsPage() {
  useTitle("Trends");
  const filters = useFilters();
  const by = filters.value("by") || "browser";
  const days = filters.value("days") || "30";
  const only = filters.value("only");
  const chosen = filters.value("value");
  const q = new URLSearchParams({ by, days });
  if (only) q.set("only", only);
  const found = useQuery({
    queryKey: ["trends", q.toString()],
    queryFn: () => get<Trends>(`/trends?${q}`),
    placeholderData: keepPreviousData,
  });
  const group = found.data?.groups.find((g) => g.value === chosen);
  const whole = !["test", "suite"].includes(by);
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <div className="flex flex-wrap items-center gap-3">
        <Tabs label="Trends" pages={trendPages} />
        <div className="ml-auto flex flex-wrap items-center gap-2">
          {only.split(" ").map(
            (word) =>
              word && (
                <Button
                  key={word}
                  aria-label={`No longer only ${word}`}
                  onClick={() => {
                    filters.set("only", without(only, word));
                  }}
                >
                  {word} ×
                </Button>
              ),
          )}
          <Choice
            label="By"
            value={by}
            onChange={(v) => {
              filters.set("value", "");
              if (["test", "suite"].includes(v)) filters.set("only", "");
              filters.set("by", v);
            }}
            options={axes.map((a) => [a, `by ${a}`])}
          />
          <Choice
            label="Days"
            value={days}
            onChange={(v) => {
              filters.set("days", v);
            }}
            options={["7", "30", "90", "400"].map((n) => [n, `last ${n} days`])}
          />
        </div>
      </div>
      {found.isPending ? (
        <Waiting />
      ) : found.error ? (
        <Trouble error={found.error} again={() => void found.refetch()} />
      ) : found.data.groups.length === 0 ? (
        <Sheet>
          <Empty title={`Nothing ran by ${by} in these days`}>
            Look further back, or by something else: an axis is only known of matrices that have it.
          </Empty>
        </Sheet>
      ) : (
        <>
          <Sheet
            title={
              group ? `Cells by day, ${group.value}` : `Cells by day, ${found.data.from} to ${found.data.to}`
            }
            aside={
              <Button
                onClick={() => {
                  save(found.data);
                }}
              >
                Numbers as CSV
              </Button>
            }
          >
            <Chart days={group ? group.days : found.data.days} />
          </Sheet>
          <Sheet title={`By ${by}, those that fail for certain first`}>
            <Groups
              by={by}
              all={found.data.groups}
              chosen={chosen}
              onChoose={(v) => {
                filters.set("value", v === chosen ? "" : v);
              }}
              onNarrow={
                whole && axes.slice(0, 4).includes(by) && by !== "version"
                  ? (v) => {
                      filters.set("only", [...only.split(" ").filter(Boolean), `${by}=${v}`].join(" "));
                    }
                  : undefined
              }
            />
          </Sheet>
        </>
      )}
    </div>
  );
}

const without = (all: string, word: string) =>
  all
    .split(" ")
    .filter((w) => w !== word)
    .join(" ");

/** Counts as a stack for each day, with the rate of failures over them. */
function Chart({ days }: { days: TrendDay[] }) {
  const data = days.map((d) => {
    const told = (d.counts["passed"] ?? 0) + (d.counts["failed"] ?? 0) + (d.counts["flaky"] ?? 0);
    return {
      day: d.day.slice(5),
      ...Object.fromEntries(shown.map((v) => [v, d.counts[v] ?? 0])),
      rate: told > 0 ? Math.round((1000 * (d.counts["failed"] ?? 0)) / told) / 10 : null,
    };
  });
  return (
    <div
      className="h-64 px-2 py-3"
      role="img"
      aria-label="Cells by day and verdict, with the rate of failures"
    >
      <ResponsiveContainer width="100%" height="100%">
        <ComposedChart data={data} margin={{ left: 0, right: 0, top: 6, bottom: 0 }}>
          <CartesianGrid stroke="var(--line)" vertical={false} />
          <XAxis dataKey="day" stroke="var(--soft)" tickLine={false} fontSize={11} />
          <YAxis yAxisId="cells" stroke="var(--soft)" tickLine={false} fontSize={11} width={48} />
          <YAxis
            yAxisId="rate"
            orientation="right"
            stroke="var(--soft)"
            tickLine={false}
            fontSize={11}
            width={52}
            domain={[0, 100]}
            tickFormatter={(v) => `${String(v)}\u00a0%`}
          />
          <Tooltip
            contentStyle={{
              background: "var(--raised)",
              border: "1px solid var(--line)",
              color: "var(--ink)",
              fontSize: 12,
            }}
            formatter={(v, name) => (name === "rate" ? [`${String(v)} %`, "fail"] : [v, said(String(name))])}
            cursor={{ fill: "var(--raised)" }}
          />
          {shown.map((v) => (
            <Bar
              key={v}
              dataKey={v}
              stackId="cells"
              yAxisId="cells"
              fill={`var(--${v})`}
              maxBarSize={44}
              isAnimationActive={false}
            />
          ))}
          <Line
            dataKey="rate"
            yAxisId="rate"
            stroke="var(--ink)"
            strokeDasharray="3 3"
            dot={{ r: 2.5, fill: "var(--ink)" }}
            isAnimationActive={false}
            connectNulls
          />
        </ComposedChart>
      </ResponsiveContainer>
    </div>
  );
}

const percent = (p: number) => `${(100 * p).toFixed(p < 0.1 ? 1 : 0)} %`;

function Groups({
  by,
  all,
  chosen,
  onChoose,
  onNarrow,
}: {
  by: string;
  all: TrendGroup[];
  chosen: string;
  onChoose: (value: string) => void;
  onNarrow: ((value: string) => void) | undefined;
}) {
  const most = Math.max(...all.map((g) => g.high), 0.01);
  return (
    <table className="w-full text-left text-sm">
      <Heads of={[by, "Failed", "Rate, and where it is with 95 %", "Flaky", "Lab faults", "Ran", ""]} />
      <tbody>
        {all.map((g) => (
          <tr
            key={g.value}
            className={`border-t border-line ${g.value === chosen ? "bg-raised" : "hover:bg-raised/50"}`}
          >
            <td className="px-4 py-1.5">
              <button
                type="button"
                className="text-left text-accent hover:underline"
                aria-pressed={g.value === chosen}
                onClick={() => {
                  onChoose(g.value);
                }}
              >
                {g.value || "none"}
              </button>
            </td>
            <td className="px-4 py-1.5 tabular-nums">{g.counts["failed"] ?? 0}</td>
            <td className="px-4 py-1.5">
              <span className="flex items-center gap-2 tabular-nums">
                <span className="w-12 text-right">{percent(g.rate)}</span>
                <span className="relative h-2 w-40 rounded bg-raised" aria-hidden="true">
                  <span
                    className="absolute h-2 rounded bg-failed/40"
                    style={{ left: `${(100 * g.low) / most}%`, width: `${(100 * (g.high - g.low)) / most}%` }}
                  />
                  <span
                    className="absolute h-2 w-0.5 bg-failed"
                    style={{ left: `${(100 * g.rate) / most}%` }}
                  />
                </span>
                <span className="text-xs whitespace-nowrap text-soft">
                  {percent(g.low)} to {percent(g.high)}
                </span>
              </span>
            </td>
            <td className="px-4 py-1.5 tabular-nums">{g.counts["flaky"] ?? 0}</td>
            <td className="px-4 py-1.5 tabular-nums">{g.counts["lab-fault"] ?? 0}</td>
            <td className="px-4 py-1.5 tabular-nums">
              {(g.counts["passed"] ?? 0) + (g.counts["failed"] ?? 0) + (g.counts["flaky"] ?? 0)}
            </td>
            <td className="px-4 py-1.5 text-right">
              {onNarrow && (
                <Button
                  className="text-xs"
                  onClick={() => {
                    onNarrow(g.value);
                  }}
                >
                  Only this
                </Button>
              )}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function save(t: Trends) {
  const a = document.createElement("a");
  a.href = URL.createObjectURL(new Blob([csvOf(t)], { type: "text/csv" }));
  a.download = `trends-by-${t.by}.csv`;
  a.click();
  URL.revokeObjectURL(a.href);
}
