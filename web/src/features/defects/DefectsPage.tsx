import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type SyntheticEvent, useState } from "react";
import { Link } from "react-router";
import { get, post, remove, type Defect, type KnownSuite, type Tracker } from "../../api/client";
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
import { Tabs } from "../../ui/Tabs";
import { runPages } from "../bisect/names";
import { useFilters } from "../../ui/useFilters";
import { useNow } from "../../ui/useNow";
import { useTitle } from "../../ui/useTitle";
import { ago } from "../../ui/words";
import { Key, Standing } from "./Filed";

/** Which causes have a defect, how does it stand, and where are defects filed? */
export function DefectsPage() {
  useTitle("Defects");
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <Tabs label="Runs" pages={runPages} />
      <Defects />
      <Trackers />
      <AddTracker />
    </div>
  );
}

function Defects() {
  const filters = useFilters();
  const now = useNow(true);
  const q = { state: filters.value("state"), text: filters.value("text"), project: filters.value("project") };
  const found = useQuery({
    queryKey: ["defects", q],
    queryFn: () => get<Defect[]>(`/defects?${new URLSearchParams({ ...q, limit: "200" })}`),
    refetchInterval: 30_000,
  });
  return (
    <Sheet
      title="Defects that were filed of causes"
      aside={
        <span className="flex gap-2">
          <Field
            label="Find"
            value={q.text}
            onChange={(e) => {
              filters.set("text", e.target.value);
            }}
          />
          <Choice
            label="State"
            value={q.state}
            onChange={(v) => {
              filters.set("state", v);
            }}
            options={[
              ["", "all of them"],
              ["open", "open"],
              ["closed", "closed"],
              ["waiting", "waiting to be filed"],
              ["refused", "not filed"],
            ]}
          />
        </span>
      }
    >
      {found.isPending ? (
        <Waiting />
      ) : found.error ? (
        <Trouble error={found.error} again={() => void found.refetch()} />
      ) : found.data.length === 0 ? (
        <Empty title="No defect is like that">
          Open a cause on the page of a run to file one, or use{" "}
          <code className="font-mono text-ink">pane defect file RUN CAUSE</code>.
        </Empty>
      ) : (
        <table className="w-full text-left text-sm">
          <Heads of={["Defect", "Title", "Stands", "Of", "Filed", "Tracker"]} />
          <tbody>
            {found.data.map((d) => (
              <tr key={d.id} className="border-t border-line align-top">
                <td className="px-4 py-1.5">
                  <Key defect={d} />
                </td>
                <td className="px-4 py-1.5 break-words">
                  <Link className="text-accent hover:underline" to={`/runs/${d.run}/causes/${d.cause}`}>
                    {d.title}
                  </Link>
                  {d.trouble && <p className="text-flaky">{d.trouble}</p>}
                </td>
                <td className="px-4 py-1.5 whitespace-nowrap">
                  <Standing defect={d} />
                </td>
                <td className="px-4 py-1.5">
                  {d.project} {d.suite}, #{d.run}
                  {d.told > 0 && `, back in #${d.told}`}
                </td>
                <td className="px-4 py-1.5 whitespace-nowrap text-soft">
                  by {d.by}, {ago(d.made_at, now)}
                </td>
                <td className="px-4 py-1.5 text-soft">{d.tracker || "dropped"}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </Sheet>
  );
}

function Trackers() {
  const queries = useQueryClient();
  const found = useQuery({ queryKey: ["trackers"], queryFn: () => get<Tracker[]>("/trackers") });
  const drop = useMutation({
    mutationFn: (t: Tracker) => remove(`/trackers/${t.id}`),
    onSettled: () => queries.invalidateQueries({ queryKey: ["trackers"] }),
  });
  return (
    <Sheet title="Where defects are filed">
      {drop.error && <Trouble error={drop.error} />}
      {found.isPending ? (
        <Waiting />
      ) : found.error ? (
        <Trouble error={found.error} again={() => void found.refetch()} />
      ) : found.data.length === 0 ? (
        <Empty title="Defects are filed nowhere yet">
          A tracker is an address that gives its form as JSON Schema and takes the filled form: add one below,
          or with <code className="font-mono text-ink">pane tracker add</code>.
        </Empty>
      ) : (
        <table className="w-full text-left text-sm">
          <Heads of={["Tracker", "Of", "At", "Speaks", "Added by", ""]} />
          <tbody>
            {found.data.map((t) => (
              <tr key={t.id} className="border-t border-line">
                <td className="px-4 py-1.5 font-medium">{t.name}</td>
                <td className="px-4 py-1.5">{t.project}</td>
                <td className="px-4 py-1.5">{t.address}</td>
                <td className="px-4 py-1.5">{t.mapping ? "by a mapping" : "as the lab does"}</td>
                <td className="px-4 py-1.5 text-soft">{t.by}</td>
                <td className="px-4 py-1.5 text-right">
                  <Confirm
                    title={`Forget ${t.name}?`}
                    text="What was filed there stays on record; nobody is asked any more how it stands."
                    action="Forget it"
                    onYes={() => {
                      drop.mutate(t);
                    }}
                  >
                    <Button className="text-xs">Forget</Button>
                  </Confirm>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </Sheet>
  );
}

/** Says where a project's defects are filed. */
function AddTracker() {
  const queries = useQueryClient();
  const suites = useQuery({ queryKey: ["suites"], queryFn: () => get<KnownSuite[]>("/suites") });
  const projects = [...new Set((suites.data ?? []).map((s) => s.project))].sort();
  const [given, setGiven] = useState({ name: "", address: "", secret: "", mapping: "" });
  const [project, setProject] = useState("");
  const change = (name: keyof typeof given) => (e: { target: { value: string } }) => {
    setGiven({ ...given, [name]: e.target.value });
  };
  const add = useMutation({
    mutationFn: () =>
      post<Tracker>("/trackers", {
        project: project || projects[0],
        name: given.name,
        address: given.address,
        ...(given.secret && { secret: given.secret }),
        ...(given.mapping.trim() && { mapping: JSON.parse(given.mapping) as unknown }),
      }),
    onSuccess: () => {
      setGiven({ name: "", address: "", secret: "", mapping: "" });
    },
    onSettled: () => queries.invalidateQueries({ queryKey: ["trackers"] }),
  });
  return (
    <Sheet title="Add a tracker">
      <form
        className="grid gap-3 p-4"
        onSubmit={(e: SyntheticEvent) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <div className="flex flex-wrap items-end gap-3">
          <Labelled label="Of">
            <Choice
              label="Of"
              value={project || (projects[0] ?? "")}
              onChange={setProject}
              options={projects.map((p) => [p, p])}
            />
          </Labelled>
          <Labelled label="Name">
            <Field label="harbour" required value={given.name} onChange={change("name")} />
          </Labelled>
          <Labelled label="Address">
            <Field
              label="https://tracker.saltmarsh.example/defects"
              className="w-96"
              required
              value={given.address}
              onChange={change("address")}
            />
          </Labelled>
          <Labelled label="What opens it">
            <Field
              label="kept sealed, shown to nobody"
              type="password"
              autoComplete="off"
              value={given.secret}
              onChange={change("secret")}
            />
          </Labelled>
          <Button kind="accent" type="submit" disabled={add.isPending || projects.length === 0}>
            Add
          </Button>
        </div>
        <details>
          <summary className="cursor-pointer text-sm text-soft">It wants another form of JSON</summary>
          <textarea
            aria-label="Mapping, as JSON"
            placeholder={'{"send": {"line": "${title}", "text": "${markdown}"}, "answer": {"key": "/id"}}'}
            className="mt-2 w-full rounded border border-line bg-ground px-2.5 py-1.5 font-mono text-xs placeholder:text-soft"
            rows={6}
            value={given.mapping}
            onChange={change("mapping")}
          />
        </details>
        {add.error && <Trouble error={add.error} />}
      </form>
    </Sheet>
  );
}
