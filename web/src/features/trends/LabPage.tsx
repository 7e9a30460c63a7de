import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { get, type LabAgent, type LabDay, type LabTrends } from "../../api/client";
import { Button, Empty, Heads, Sheet, Trouble, Waiting } from "../../ui/parts";
import { Tabs } from "../../ui/Tabs";
import { useFilters } from "../../ui/useFilters";
import { useTitle } from "../../ui/useTitle";
import { percent, took } from "../../ui/words";
import { labCSV, save } from "./csv";
import { DayChart } from "./DayChart";
import { DaysChoice } from "./DaysChoice";
import { Span } from "./Span";
import { trendPages } from "./pages";

/** Is the lab large enough, and who in it cannot be relied on? */
export function LabPage() {
  useTitle("The lab's trends");
  const filters = useFilters();
  const agent = filters.value("agent");
  const q = new URLSearchParams({ days: filters.value("days") || "30" });
  if (agent) q.set("agent", agent);
  const found = useQuery({
    queryKey: ["trends", "lab", q.toString()],
    queryFn: () => get<LabTrends>(`/trends/lab?${q}`),
    placeholderData: keepPreviousData,
  });
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <div className="flex flex-wrap items-center gap-3">
        <Tabs label="Trends" pages={trendPages} />
        <div className="ml-auto flex flex-wrap items-center gap-2">
          {agent && (
            <Button
              onClick={() => {
                filters.set("agent", "");
              }}
              aria-label={`No longer only ${agent}`}
            >
              {agent} ×
            </Button>
          )}
          <DaysChoice filters={filters} />
        </div>
      </div>
      {found.isPending ? (
        <Waiting />
      ) : found.error ? (
        <Trouble error={found.error} again={() => void found.refetch()} />
      ) : found.data.days.length === 0 ? (
        <Sheet>
          <Empty title="Nothing ran in these days, and no agent was online">
            Look further back, or start an agent: the fleet&rsquo;s page says how.
          </Empty>
        </Sheet>
      ) : (
        <Use
          found={found.data}
          agent={agent}
          onChoose={(name) => {
            filters.set("agent", name === agent ? "" : name);
          }}
        />
      )}
    </div>
  );
}

/** How much of what was offered was used; null where that is not on record. */
const used = (d: { busy_ms: number; offered_ms: number }) =>
  d.offered_ms > 0 ? Math.round((1000 * d.busy_ms) / d.offered_ms) / 10 : null;

const hours = (h: number) => `${h < 10 ? h.toFixed(1) : h.toFixed(0)} h`;

function Use({
  found,
  agent,
  onChoose,
}: {
  found: LabTrends;
  agent: string;
  onChoose: (agent: string) => void;
}) {
  const days = found.days.map((d) => ({
    day: d.day,
    busy: d.busy_ms / 3_600_000,
    idle: Math.max(0, d.offered_ms - d.busy_ms) / 3_600_000,
    used: used(d),
    wait: d.waits > 0 ? d.wait_ms / 1000 : null,
    long: d.waits > 0 ? d.long_ms / 1000 : null,
    fine: d.attempts - d.faults,
    faults: d.faults,
  }));
  const of = agent && `, ${agent}`;
  return (
    <>
      <Sheet
        title={`Slot time by day${of}: used and idle, and how much of it was used`}
        aside={
          <Button
            onClick={() => {
              save(`lab${agent && `-${agent}`}.csv`, labCSV(found.days));
            }}
          >
            Numbers as CSV
          </Button>
        }
      >
        <DayChart
          label="Slot time by day, used and idle, with the share that was used"
          days={days}
          left={hours}
          right={(n) => `${n} %`}
          top={100}
          low
          series={[
            { key: "busy", name: "used", color: "var(--accent)", as: "bar" },
            { key: "idle", name: "idle", color: "var(--line)", as: "bar" },
            { key: "used", name: "of it used", color: "var(--ink)", as: "dashes", right: true },
          ]}
        />
      </Sheet>
      {!agent && (
        <Sheet title="How long runs and sessions waited for their first slot">
          <Waits days={found.days} />
        </Sheet>
      )}
      <Sheet title={`Attempts by day${of}, and those that were the lab's fault`}>
        <DayChart
          label="Attempts by day, with lab faults"
          days={days}
          low
          series={[
            { key: "fine", name: "of the lab, fine", color: "var(--passed)", as: "bar" },
            { key: "faults", name: "lab faults", color: "var(--lab-fault)", as: "bar" },
          ]}
        />
      </Sheet>
      <Sheet title="By agent, those that fault for certain first">
        <Agents all={found.agents} chosen={agent} onChoose={onChoose} />
      </Sheet>
    </>
  );
}

function Waits({ days }: { days: LabDay[] }) {
  if (days.every((d) => d.waits === 0))
    return (
      <Empty title="Nothing was asked for in these days">
        Runs and sessions show here how long they waited.
      </Empty>
    );
  return (
    <DayChart
      label="Waits by day: the median, and what nine of ten waited at most"
      days={days.map((d) => ({
        day: d.day,
        wait: d.waits > 0 ? d.wait_ms : null,
        long: d.waits > 0 ? d.long_ms : null,
      }))}
      left={took}
      low
      series={[
        { key: "wait", name: "median", color: "var(--accent)", as: "line" },
        { key: "long", name: "nine of ten within", color: "var(--flaky)", as: "dashes" },
      ]}
    />
  );
}

function Agents({
  all,
  chosen,
  onChoose,
}: {
  all: LabAgent[];
  chosen: string;
  onChoose: (agent: string) => void;
}) {
  const most = Math.max(...all.map((a) => (a.attempts > 0 ? a.high : 0)), 0.01);
  return (
    <table className="w-full text-left text-sm">
      <Heads
        of={["Agent", "Slots used", "Busy", "Attempts", "Lab faults", "Rate, and where it is with 95 %"]}
      />
      <tbody>
        {all.map((a) => (
          <tr
            key={a.agent}
            className={`border-t border-line ${a.agent === chosen ? "bg-raised" : "hover:bg-raised/50"}`}
          >
            <td className="px-4 py-1.5">
              <button
                type="button"
                className="text-left text-accent hover:underline"
                aria-pressed={a.agent === chosen}
                onClick={() => {
                  onChoose(a.agent);
                }}
              >
                {a.agent}
              </button>
            </td>
            <td className="px-4 py-1.5 tabular-nums">
              {a.offered_ms > 0 ? percent(a.busy_ms / a.offered_ms) : "–"}
            </td>
            <td className="px-4 py-1.5 tabular-nums">{took(a.busy_ms)}</td>
            <td className="px-4 py-1.5 tabular-nums">{a.attempts}</td>
            <td className="px-4 py-1.5 tabular-nums">{a.faults}</td>
            <td className="px-4 py-1.5">
              {a.attempts > 0 && (
                <Span low={a.low} rate={a.rate} high={a.high} most={most} color="lab-fault" />
              )}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
