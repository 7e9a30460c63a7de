import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type SyntheticEvent, useState } from "react";
import { useSearchParams } from "react-router";
import { get, post, remove, type Aside, type AsideRequest, type KnownSuite } from "../../api/client";
import {
  Button,
  Choice,
  Confirm,
  Empty,
  Field,
  Heads,
  Labelled,
  Sheet,
  Trouble,
  Waiting,
} from "../../ui/parts";
import { Find } from "../../ui/Find";
import { Tabs } from "../../ui/Tabs";
import { useFilters } from "../../ui/useFilters";
import { useTitle } from "../../ui/useTitle";
import { trendPages } from "./pages";

/** Whose failures do not count, until when, and who looks after them? */
export function AsidePage() {
  useTitle("Set aside");
  const filters = useFilters();
  const ended = filters.value("ended");
  const queries = useQueryClient();
  const found = useQuery({
    queryKey: ["aside", ended],
    queryFn: () => get<Aside[]>(`/aside${ended && "?ended=true"}`),
  });
  const end = useMutation({
    mutationFn: (a: Aside) =>
      remove(`/aside?${new URLSearchParams({ project: a.project, suite: a.suite, test: a.test })}`),
    onSettled: () => queries.invalidateQueries({ queryKey: ["aside"] }),
  });
  const text = filters.value("text").toLowerCase();
  const all = (found.data ?? []).filter((a) =>
    `${a.test} ${a.project} ${a.suite} ${a.owner} ${a.reason}`.toLowerCase().includes(text),
  );
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <Tabs label="Trends" pages={trendPages} />
      <Sheet
        title="Tests that are set aside: they run and are shown, and their failures turn no run red"
        aside={
          <div className="flex gap-2">
            <Find filters={filters} label="Find test, owner or reason" size={26} />
            <Choice
              label="Which"
              value={ended}
              onChange={(v) => {
                filters.set("ended", v);
              }}
              options={[
                ["", "set aside now"],
                ["yes", "those too whose time is over"],
              ]}
            />
          </div>
        }
      >
        {found.isPending ? (
          <Waiting />
        ) : found.error ? (
          <Trouble error={found.error} again={() => void found.refetch()} />
        ) : all.length === 0 ? (
          <Empty title={text ? "No test that is set aside is like that" : "No test is set aside"}>
            {text
              ? "Clear the search to see them all."
              : "Every failure counts. Set one aside below while somebody mends it."}
          </Empty>
        ) : (
          <table className="w-full text-left text-sm">
            <Heads of={["Test", "Until", "Looked after by", "Reason", "Set aside by", ""]} />
            <tbody>
              {all.map((a) => (
                <tr key={`${a.project} ${a.suite} ${a.test}`} className="border-t border-line align-top">
                  <td className="px-4 py-1.5">
                    <span className="font-medium">{a.test}</span>
                    <span className="block text-xs text-soft">
                      {a.project} {a.suite}
                    </span>
                  </td>
                  <td className="px-4 py-1.5 whitespace-nowrap tabular-nums">
                    {a.until.slice(0, 10)}
                    {a.ended && <span className="block text-xs text-flaky">over: failures count</span>}
                  </td>
                  <td className="px-4 py-1.5">{a.owner}</td>
                  <td className="px-4 py-1.5 break-words">{a.reason}</td>
                  <td className="px-4 py-1.5 text-soft">{a.by}</td>
                  <td className="px-4 py-1.5 text-right">
                    <Confirm
                      title={`Take ${a.test} back?`}
                      text="Its failures turn runs red again, from the next one that ends."
                      action="Take it back"
                      onYes={() => {
                        end.mutate(a);
                      }}
                    >
                      <Button className="text-xs">Take back</Button>
                    </Confirm>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
        {end.error && <Trouble error={end.error} />}
      </Sheet>
      <SetAside />
    </div>
  );
}

/** So many days from now, as a date. */
const inDays = (n: number): string => new Date(Date.now() + n * 86_400_000).toISOString().slice(0, 10);

function SetAside() {
  const [params, setParams] = useSearchParams();
  const queries = useQueryClient();
  const suites = useQuery({ queryKey: ["suites"], queryFn: () => get<KnownSuite[]>("/suites") });
  const known = [...new Set((suites.data ?? []).map((s) => `${s.project} ${s.suite}`))].sort();
  const asked = params.get("suite") ? `${params.get("project")} ${params.get("suite")}` : "";
  const [suite, setSuite] = useState(asked);
  const [test, setTest] = useState(params.get("test") ?? "");
  const [owner, setOwner] = useState("");
  const [reason, setReason] = useState("");
  const [until, setUntil] = useState(inDays(14));
  const of = suite || known[0] || "";
  const set = useMutation({
    mutationFn: () => {
      const [project = "", name = ""] = of.split(" ");
      const q: AsideRequest = { project, suite: name, test, owner, reason, until: `${until}T00:00:00Z` };
      return post<Aside>("/aside", q);
    },
    onSuccess: () => {
      setTest("");
      setReason("");
      setParams({}, { replace: true });
      return queries.invalidateQueries({ queryKey: ["aside"] });
    },
  });
  const submit = (e: SyntheticEvent) => {
    e.preventDefault();
    set.mutate();
  };
  return (
    <Sheet title="Set a test aside">
      <form className="flex flex-wrap items-end gap-4 p-4" onSubmit={submit}>
        <Labelled label="Suite">
          <Choice
            label="Suite"
            value={of}
            onChange={setSuite}
            options={[...new Set([...(asked ? [asked] : []), ...known])].map((s): [string, string] => [s, s])}
          />
        </Labelled>
        <Field
          label="Test"
          required
          size={34}
          value={test}
          onChange={(e) => {
            setTest(e.target.value);
          }}
        />
        <Field
          label="Who looks after it"
          required
          value={owner}
          onChange={(e) => {
            setOwner(e.target.value);
          }}
        />
        <Field
          label="Reason"
          required
          size={34}
          value={reason}
          onChange={(e) => {
            setReason(e.target.value);
          }}
        />
        <Labelled label="Failures count again from">
          <Field
            label="Failures count again from"
            type="date"
            required
            min={inDays(1)}
            max={inDays(365)}
            value={until}
            onChange={(e) => {
              setUntil(e.target.value);
            }}
          />
        </Labelled>
        <Button type="submit" disabled={set.isPending}>
          Set aside
        </Button>
      </form>
      {set.error && <Trouble error={set.error} />}
    </Sheet>
  );
}
