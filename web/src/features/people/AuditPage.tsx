import { keepPreviousData, useInfiniteQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { get, type AuditEntry } from "../../api/client";
import { Button, Choice, Empty, Heads, Sheet, Trouble, Waiting } from "../../ui/parts";
import { Day } from "../../ui/Day";
import { Search } from "../../ui/Search";
import { useFilters } from "../../ui/useFilters";
import { useTitle } from "../../ui/useTitle";
import { PeopleTabs } from "./PeopleTabs";

const pageSize = 100;

/** Who did what, from where, and what was refused? */
export function AuditPage() {
  useTitle("Who did what");
  const { params, value, set, clear } = useFilters();
  const filter = new URLSearchParams(params);
  const [cleared, setCleared] = useState(0);
  const audit = useInfiniteQuery({
    queryKey: ["audit", filter.toString()],
    queryFn: ({ pageParam }) => {
      const q = new URLSearchParams(filter);
      q.set("limit", String(pageSize));
      if (pageParam > 0) q.set("before", String(pageParam));
      return get<AuditEntry[]>(`/audit?${q}`);
    },
    initialPageParam: 0,
    getNextPageParam: (last) => (last.length >= pageSize ? last[last.length - 1]?.id : undefined),
    placeholderData: keepPreviousData,
    refetchInterval: 15_000,
  });
  const list = audit.data?.pages.flat() ?? [];
  const filters: [string, string, number][] = [
    ["text", "Find anything", 28],
    ["who", "Who", 12],
    ["act", "Did, such as run or token add", 24],
    ["project", "Project", 12],
  ];
  return (
    <div className="grid gap-4">
      <PeopleTabs />
      <Sheet
        title="Who did what"
        aside={
          params.size > 0 && (
            <Button
              className="text-xs"
              onClick={() => {
                clear();
                setCleared(cleared + 1);
              }}
            >
              Show everything
            </Button>
          )
        }
      >
        <div key={cleared} className="flex flex-wrap gap-2 border-b border-line px-4 py-2.5">
          {filters.map(([name, label, size]) => (
            <Search
              key={name}
              text={value(name)}
              onText={(v) => {
                set(name, v);
              }}
              label={label}
              size={size}
            />
          ))}
          <Choice
            label="Refused"
            value={value("refused")}
            onChange={(v) => {
              set("refused", v);
            }}
            options={[
              ["", "done and refused"],
              ["yes", "refused"],
            ]}
          />
          {["since", "until"].map((name) => (
            <Day
              key={name}
              word={name === "since" ? "from" : "to"}
              value={value(name)}
              onChange={(v) => {
                set(name, v);
              }}
            />
          ))}
        </div>
        {audit.isPending ? (
          <Waiting />
        ) : audit.error ? (
          <Trouble error={audit.error} again={() => void audit.refetch()} />
        ) : list.length === 0 ? (
          <Empty title="Nothing on record is like that">
            What people do is on record from when the service knows who they are. Leave a filter out to see
            more, or keep it elsewhere with <code className="font-mono text-ink">pane audit --csv</code>.
          </Empty>
        ) : (
          <Table list={list} />
        )}
        {audit.hasNextPage && (
          <div className="p-3 text-center">
            <Button onClick={() => void audit.fetchNextPage()}>Show what came before</Button>
          </div>
        )}
      </Sheet>
    </div>
  );
}

function Table({ list }: { list: AuditEntry[] }) {
  return (
    <table className="w-full text-left text-sm">
      <Heads of={["When", "Who", "From", "Did", "What", "Project", "Changed"]} />
      <tbody>
        {list.map((e) => (
          <tr key={e.id} className="border-t border-line align-top hover:bg-raised/50">
            <td className="px-4 py-2 whitespace-nowrap tabular-nums">
              {e.at ? new Date(e.at).toLocaleString() : ""}
            </td>
            <td className="px-4 py-2">
              {e.who || <span className="text-soft">nobody known</span>}
              {e.token && e.token !== e.who && (
                <span className="block text-xs text-soft">with {e.token}</span>
              )}
            </td>
            <td className="px-4 py-2 text-soft">{e.from}</td>
            <td className="px-4 py-2 whitespace-nowrap">{e.act}</td>
            <td className="px-4 py-2 break-all">
              <Target entry={e} />
            </td>
            <td className="px-4 py-2">{e.project}</td>
            <td className="max-w-md px-4 py-2">
              {e.refused ? <span className="text-failed">refused: {e.refused}</span> : <Changed entry={e} />}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** What it was done to; runs and sessions lead to their pages. */
function Target({ entry: e }: { entry: AuditEntry }) {
  const to = e.act.startsWith("session ")
    ? `/sessions/${e.target}`
    : /^\d+$/.test(e.target) && ["run", "again", "cancel", "preset run"].includes(e.act)
      ? `/runs/${e.target}`
      : "";
  if (!to || e.refused) return e.target;
  return (
    <Link to={to} className="text-accent hover:underline">
      {e.target}
    </Link>
  );
}

function Changed({ entry: e }: { entry: AuditEntry }) {
  if (e.before === undefined && e.after === undefined) return null;
  return (
    <details>
      <summary className="cursor-pointer text-soft">
        {e.before === undefined ? "made" : e.after === undefined ? "gone" : "before and after"}
      </summary>
      {(["before", "after"] as const).map(
        (k) =>
          e[k] !== undefined && (
            <pre
              key={k}
              className="mt-1 overflow-x-auto rounded bg-ground p-2 font-mono text-xs whitespace-pre-wrap"
            >
              {k}: {JSON.stringify(e[k], null, 1)}
            </pre>
          ),
      )}
    </details>
  );
}
