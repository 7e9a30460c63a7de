import { keepPreviousData, useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { get, type Device, type SessionSummary } from "../../api/client";
import { useFresh } from "../../api/useFresh";
import { fillOf, Glass, inkOf, said } from "../../ui/Glass";
import { Button, Choice, Empty, Heads, Sheet, Trouble, Waiting } from "../../ui/parts";
import { Day } from "../../ui/Day";
import { Search } from "../../ui/Search";
import { useFilters } from "../../ui/useFilters";
import { useNow } from "../../ui/useNow";
import { ago, between, took } from "../../ui/words";
import { useAgents } from "../fleet/queries";
import { useTitle } from "../../ui/useTitle";

const pageSize = 50;
const verdicts = ["failed", "lab-fault", "ended", "passed", "skipped", "unsupported"];

/** What waits, what is open, and what was. The filters live in the address, so that a search can be kept as a bookmark. */
export function SessionsPage() {
  useTitle("Sessions");
  const { params, value, set, clear } = useFilters();
  const filter = new URLSearchParams(params);
  const [cleared, setCleared] = useState(0);
  const devices = useQuery({
    queryKey: ["devices"],
    queryFn: () => get<Device[]>("/devices"),
    staleTime: Infinity,
  });
  const agents = useAgents();
  const sessions = useInfiniteQuery({
    queryKey: ["sessions", filter.toString()],
    queryFn: ({ pageParam }) => {
      const q = new URLSearchParams(filter);
      q.set("limit", String(pageSize));
      if (pageParam !== "") q.set("before", pageParam);
      return get<SessionSummary[]>(`/sessions?${q}`);
    },
    initialPageParam: "",
    getNextPageParam: (last) => (last.length >= pageSize ? last[last.length - 1]?.id : undefined),
    placeholderData: keepPreviousData,
  });
  useFresh("sessions", ["run", "sessions"]);
  const browsers = [
    ...new Set(
      (agents.data ?? []).flatMap((a) => a.machine.browsers.filter((b) => b.fits).map((b) => b.name)),
    ),
  ].sort();
  const list = sessions.data?.pages.flat() ?? [];
  const words = (xs: string[], all: string): [string, string][] => [
    ["", all],
    ...xs.map((v): [string, string] => [v, said(v)]),
  ];
  return (
    <Sheet
      title="Sessions"
      aside={
        params.size > 0 && (
          <Button
            className="text-xs"
            onClick={() => {
              clear();
              setCleared(cleared + 1);
            }}
          >
            Show every session
          </Button>
        )
      }
    >
      <div key={cleared} className="flex flex-wrap gap-2 border-b border-line px-4 py-2.5">
        <Search
          text={value("text")}
          onText={(v) => {
            set("text", v);
          }}
          label="Find name, test, run, person, message, note"
          size={32}
        />
        <Search
          text={value("tag")}
          onText={(v) => {
            set("tag", v);
          }}
          label="Tag"
          size={8}
        />
        <Search
          text={value("run")}
          onText={(v) => {
            set("run", v.replace(/\D/g, ""));
          }}
          label="Run #"
          size={5}
        />
        <Choice
          label="Browser"
          value={value("browser")}
          onChange={(v) => {
            set("browser", v);
          }}
          options={words(browsers, "every browser")}
        />
        <Choice
          label="Device"
          value={value("device")}
          onChange={(v) => {
            set("device", v);
          }}
          options={words(
            (devices.data ?? []).map((d) => d.name),
            "every device",
          )}
        />
        <Choice
          label="Verdict"
          value={value("verdict")}
          onChange={(v) => {
            set("verdict", v);
          }}
          options={words(verdicts, "every verdict")}
        />
        <Choice
          label="State"
          value={value("state")}
          onChange={(v) => {
            set("state", v);
          }}
          options={words(["waiting", "open", "ended"], "every state")}
        />
        <Choice
          label="Opened by"
          value={value("kind")}
          onChange={(v) => {
            set("kind", v);
          }}
          options={[
            ["", "scripts and runners"],
            ["script", "scripts"],
            ["remote", "runners"],
          ]}
        />
        <Day
          word="from"
          value={value("since")}
          onChange={(v) => {
            set("since", v);
          }}
        />
        <Day
          word="to"
          value={value("until")}
          onChange={(v) => {
            set("until", v);
          }}
        />
      </div>
      {sessions.isPending ? (
        <Waiting />
      ) : sessions.error ? (
        <Trouble error={sessions.error} again={() => void sessions.refetch()} />
      ) : list.length === 0 ? (
        params.size > 0 ? (
          <Empty title="No session is like that">Leave a filter out to see more.</Empty>
        ) : (
          <Empty title="No session yet">
            Run a suite with <code className="font-mono text-ink">pane run</code>, or point your own runner at{" "}
            <code className="font-mono text-ink">{location.origin}/webdriver</code>.
          </Empty>
        )
      ) : (
        <Table list={list} />
      )}
      {sessions.hasNextPage && (
        <div className="p-3 text-center">
          <Button onClick={() => void sessions.fetchNextPage()}>Show older sessions</Button>
        </div>
      )}
    </Sheet>
  );
}

function Table({ list }: { list: SessionSummary[] }) {
  const now = useNow(list.some((s) => s.state !== "ended"));
  return (
    <table className="w-full text-left">
      <Heads of={["Session", "Combination", "Run", "Agent", "Time", "By", "Asked for"]} />
      <tbody>
        {list.map((s) => {
          const fill = fillOf(s.state === "open" ? "running" : s.state, s.verdict);
          const time = between(s.opened_at, s.ended_at, now);
          return (
            <tr key={s.id} className="border-t border-line align-top hover:bg-raised/50">
              <td className="px-4 py-2.5">
                <Link to={`/sessions/${s.id}`} className="inline-flex items-center gap-2 font-medium">
                  <Glass fill={fill} />
                  {s.name}{" "}
                  <span className={`${inkOf[fill]} font-normal`}>
                    {said(s.verdict || s.state)}
                    {s.state === "waiting" && `, ${s.ahead} ahead`}
                  </span>
                </Link>
                {(s.message || s.tags.length > 0 || (s.kind === "remote" && s.end)) && (
                  <span className="block max-w-md truncate pl-6 text-xs text-soft">
                    {[s.message || (s.kind === "remote" ? s.end : ""), s.tags.join(" ")]
                      .filter(Boolean)
                      .join(" · ")}
                  </span>
                )}
              </td>
              <td className="px-4 py-2.5 whitespace-nowrap">
                {s.label}
                <span className="block text-xs text-soft">
                  {s.browser} {s.version}
                </span>
              </td>
              <td className="px-4 py-2.5">
                <Link className="hover:underline" to={`/runs/${s.run}`}>
                  #{s.run} <span className="text-soft">{s.run_name}</span>
                </Link>
              </td>
              <td className="px-4 py-2.5 whitespace-nowrap">{s.agent || "–"}</td>
              <td className="px-4 py-2.5 whitespace-nowrap">{time === null ? "–" : took(time)}</td>
              <td className="px-4 py-2.5 whitespace-nowrap">{s.by}</td>
              <td className="px-4 py-2.5 whitespace-nowrap text-soft" title={s.queued_at ?? ""}>
                {ago(s.queued_at, now)}
              </td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}
