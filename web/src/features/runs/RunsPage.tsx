import { Tabs } from "../../ui/Tabs";
import { runPages } from "../bisect/names";
import { keepPreviousData, useInfiniteQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { get, type RunSummary } from "../../api/client";
import { useFresh } from "../../api/useFresh";
import { Counts, fillOf, Glass, inkOf, said } from "../../ui/Glass";
import { Button, Choice, Empty, Heads, Hint, Sheet, Trouble, Waiting } from "../../ui/parts";
import { Search } from "../../ui/Search";
import { useFilters } from "../../ui/useFilters";
import { useNow } from "../../ui/useNow";
import { ago, between, took } from "../../ui/words";
import { useTitle } from "../../ui/useTitle";

const pageSize = 50;

/** What is going on, and what went on: every run, newest first. The filters live in the address. */
export function RunsPage() {
  useTitle("Runs");
  const { params, value, set, clear } = useFilters();
  const filter = new URLSearchParams(params);
  const [cleared, setCleared] = useState(0); // how often the filters were, which empties the search field
  const runs = useInfiniteQuery({
    queryKey: ["runs", filter.toString()],
    queryFn: ({ pageParam }) => {
      const q = new URLSearchParams(filter);
      q.set("limit", String(pageSize));
      if (pageParam > 0) q.set("before", String(pageParam));
      return get<RunSummary[]>(`/runs?${q}`);
    },
    initialPageParam: 0,
    getNextPageParam: (last) => (last.length === pageSize ? last[last.length - 1]?.number : undefined),
    placeholderData: keepPreviousData,
  });
  useFresh("runs", ["run"]);
  const list = runs.data?.pages.flat() ?? [];
  const filtered = [...params.keys()].length > 0;
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <Tabs label="Runs" pages={runPages} />
      <Sheet
        title="Runs"
        aside={
          <div className="flex gap-2">
            <Search
              key={cleared}
              label="Find suite, matrix, person, #number"
              text={value("text")}
              onText={(v) => {
                set("text", v);
              }}
            />
            <Choice
              label="Verdict"
              value={value("verdict")}
              onChange={(v) => {
                set("verdict", v);
              }}
              options={[
                ["", "every verdict"],
                ...["failed", "lab-fault", "flaky", "ended", "passed", "unsupported", "skipped"].map(
                  (v): [string, string] => [v, said(v)],
                ),
              ]}
            />
            <Choice
              label="State"
              value={value("state")}
              onChange={(v) => {
                set("state", v);
              }}
              options={[
                ["", "open and ended"],
                ["open", "open"],
                ["ended", "ended"],
              ]}
            />
          </div>
        }
      >
        {runs.isPending ? (
          <Waiting />
        ) : runs.error ? (
          <Trouble error={runs.error} again={() => void runs.refetch()} />
        ) : list.length === 0 ? (
          filtered ? (
            <Empty title="No run matches these filters">
              <Button
                onClick={() => {
                  clear();
                  setCleared(cleared + 1);
                }}
              >
                Show every run
              </Button>
            </Empty>
          ) : (
            <Empty title="No run yet">
              Start one in a project&apos;s directory with{" "}
              <code className="font-mono text-ink">pane run</code>. It appears here by itself.
            </Empty>
          )
        ) : (
          <RunTable runs={list} />
        )}
        {runs.hasNextPage && (
          <div className="p-3 text-center">
            <Button onClick={() => void runs.fetchNextPage()}>Show older runs</Button>
          </div>
        )}
      </Sheet>
    </div>
  );
}

function RunTable({ runs }: { runs: RunSummary[] }) {
  const now = useNow(runs.some((r) => r.state !== "ended"));
  return (
    <table className="w-full text-left">
      <Heads of={["Run", "Suite on matrix", "Panes", "Tests", "Time", "By", "Started"]} />
      <tbody>
        {runs.map((r) => {
          const fill = fillOf(r.state, r.verdict);
          const time = between(r.started_at, r.ended_at, now);
          return (
            <tr key={r.id} className="border-t border-line hover:bg-raised/50">
              <td className="px-4 py-2.5 whitespace-nowrap">
                <Link to={`/runs/${r.number}`} className="inline-flex items-center gap-2 font-medium">
                  <Glass fill={fill} />#{r.number}{" "}
                  <span className={`${inkOf[fill]} font-normal`}>{said(r.verdict || r.state)}</span>
                </Link>
              </td>
              <td className="px-4">
                <Link to={`/runs/${r.number}`}>
                  {r.project} <b className="font-medium">{r.suite}</b>{" "}
                  <span className="text-soft">
                    {r.kind === "remote" ? "sessions" : `on ${r.matrix}`}
                    {r.environment && `, ${r.environment}`}
                  </span>
                </Link>
              </td>
              <td className="px-4">
                <span className="flex max-w-64 flex-wrap gap-1">
                  {r.panes.map((p) => {
                    const f = fillOf(p.state, p.verdict);
                    return (
                      <Hint key={p.label} text={`${p.label}: ${said(f)}`}>
                        <span>
                          <Glass fill={f} label={`${p.label}: ${said(f)}`} />
                        </span>
                      </Hint>
                    );
                  })}
                </span>
              </td>
              <td className="px-4">
                <Counts counts={r.counts} />
              </td>
              <td className="px-4 whitespace-nowrap">{time === null ? "–" : took(time)}</td>
              <td className="px-4">{r.by}</td>
              <td className="px-4 whitespace-nowrap text-soft" title={r.created_at ?? ""}>
                {ago(r.created_at, now)}
              </td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}
