import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { get, type TrendDay, type TrendGroup, type Trends } from "../../api/client";
import { said } from "../../ui/Glass";
import { Button, Choice, Empty, Heads, Sheet, Trouble, Waiting } from "../../ui/parts";
import { Tabs } from "../../ui/Tabs";
import { useFilters } from "../../ui/useFilters";
import { useTitle } from "../../ui/useTitle";
import { csvOf, save, shown } from "./csv";
import { DayChart } from "./DayChart";
import { DaysChoice } from "./DaysChoice";
import { Span } from "./Span";
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
          <DaysChoice filters={filters} />
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
                  save(`trends-by-${by}.csv`, csvOf(found.data));
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
  return (
    <DayChart
      label="Cells by day and verdict, with the rate of failures"
      days={days.map((d) => {
        const failed = (d.counts["failed"] ?? 0) + (d.counts["aside"] ?? 0);
        const told = (d.counts["passed"] ?? 0) + failed + (d.counts["flaky"] ?? 0);
        return {
          day: d.day,
          ...Object.fromEntries(shown.map((v) => [v, d.counts[v] ?? 0])),
          rate: told > 0 ? Math.round((1000 * failed) / told) / 10 : null,
        };
      })}
      right={(n) => `${n}\u00a0%`}
      top={100}
      series={[
        ...shown.map((v) => ({ key: v, name: said(v), color: `var(--${v})`, as: "bar" as const })),
        { key: "rate", name: "fail", color: "var(--ink)", as: "dashes", right: true },
      ]}
    />
  );
}

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
      <Heads
        of={[by, "Failed", "Set aside", "Rate, and where it is with 95 %", "Flaky", "Lab faults", "Ran", ""]}
      />
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
            <td className="px-4 py-1.5 tabular-nums">{g.counts["aside"] ?? 0}</td>
            <td className="px-4 py-1.5">
              <Span low={g.low} rate={g.rate} high={g.high} most={most} color="failed" />
            </td>
            <td className="px-4 py-1.5 tabular-nums">{g.counts["flaky"] ?? 0}</td>
            <td className="px-4 py-1.5 tabular-nums">{g.counts["lab-fault"] ?? 0}</td>
            <td className="px-4 py-1.5 tabular-nums">
              {["passed", "failed", "aside", "flaky"].reduce((n, v) => n + (g.counts[v] ?? 0), 0)}
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
