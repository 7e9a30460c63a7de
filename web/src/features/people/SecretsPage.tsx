import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { get, post, remove, type KnownSuite, type Secret } from "../../api/client";
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
import { useNow } from "../../ui/useNow";
import { useTitle } from "../../ui/useTitle";
import { ago } from "../../ui/words";
import { PeopleTabs } from "./PeopleTabs";

/** Which values are runs given that nobody sees? */
export function SecretsPage() {
  useTitle("Secrets");
  const [params, setParams] = useSearchParams();
  const suites = useQuery({ queryKey: ["suites"], queryFn: () => get<KnownSuite[]>("/suites") });
  const projects = [...new Set([...(suites.data ?? []).map((s) => s.project), params.get("project") ?? ""])]
    .filter((p) => p !== "")
    .sort();
  const project = params.get("project") ?? projects[0];
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <PeopleTabs />
      {suites.error ? (
        <Trouble error={suites.error} />
      ) : suites.isPending ? (
        <Waiting />
      ) : !project ? (
        <Empty title="No project is known yet">
          Secrets are a project&apos;s, which comes with its first run; or keep one with{" "}
          <code className="font-mono text-ink">pane secret keep NAME --project PROJECT</code>.
        </Empty>
      ) : (
        <>
          <div className="flex">
            <Labelled label="Project">
              <Choice
                label="Project"
                value={project}
                onChange={(v) => {
                  setParams({ project: v }, { replace: true });
                }}
                options={projects.map((p): [string, string] => [p, p])}
              />
            </Labelled>
          </div>
          <Kept key={project} project={project} />
        </>
      )}
    </div>
  );
}

function Kept({ project }: { project: string }) {
  const now = useNow(false);
  const queries = useQueryClient();
  const [find, setFind] = useState("");
  const path = `/projects/${encodeURIComponent(project)}/secrets`;
  const all = useQuery({ queryKey: ["secrets", project], queryFn: () => get<Secret[]>(path) });
  const drop = useMutation({
    mutationFn: (s: Secret) =>
      remove(`${path}/${encodeURIComponent(s.name)}?environment=${encodeURIComponent(s.environment)}`),
    onSettled: () => queries.invalidateQueries({ queryKey: ["secrets", project] }),
  });
  if (all.isPending) return <Waiting />;
  if (all.error) return <Trouble error={all.error} />;
  const rows = all.data.filter((s) =>
    `${s.name} ${s.environment}`.toLowerCase().includes(find.trim().toLowerCase()),
  );
  return (
    <div className="grid items-start gap-4 lg:grid-cols-[minmax(0,5fr)_minmax(0,3fr)]">
      <Sheet
        title="Kept secrets"
        aside={
          <Field
            label="Find secret, environment"
            value={find}
            onChange={(e) => {
              setFind(e.target.value);
            }}
          />
        }
      >
        {all.data.length === 0 ? (
          <Empty title="No secret is kept">
            What a suite names under <code className="font-mono text-ink">secrets</code> in pane.yaml is
            looked for here.
          </Empty>
        ) : rows.length === 0 ? (
          <Empty title="No secret is like that">Clear the search to see them all.</Empty>
        ) : (
          <table className="w-full text-left text-sm">
            <Heads of={["Secret", "Environment", "Changed", ""]} />
            <tbody>
              {rows.map((s) => (
                <tr key={`${s.environment}/${s.name}`} className="border-t border-line">
                  <td className="px-4 py-2 font-mono">{s.name}</td>
                  <td className="px-4 py-2">{s.environment || "every one"}</td>
                  <td className="px-4 py-2 text-soft">
                    by {s.changed_by}, {ago(s.changed_at, now)}
                  </td>
                  <td className="px-4 py-2 text-right">
                    <Confirm
                      title={`Forget ${s.name}?`}
                      text="Runs that need it cannot start until it is kept again. Those that go on keep theirs."
                      action="Forget"
                      onYes={() => {
                        drop.mutate(s);
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
        {drop.error && <Trouble error={drop.error} />}
      </Sheet>
      <Keep path={path} project={project} />
    </div>
  );
}

function Keep({ path, project }: { path: string; project: string }) {
  const queries = useQueryClient();
  const [name, setName] = useState("");
  const [environment, setEnvironment] = useState("");
  const [value, setValue] = useState("");
  const keep = useMutation({
    mutationFn: () => post(path, { name, environment, value }),
    onSuccess: () => {
      setName("");
      setValue("");
      return queries.invalidateQueries({ queryKey: ["secrets", project] });
    },
  });
  return (
    <Sheet title="Keep a secret">
      <form
        className="grid gap-3 p-4"
        onSubmit={(e) => {
          e.preventDefault();
          keep.mutate();
        }}
      >
        <Labelled label="Name" help="letters, digits and _; an old value of this name is replaced">
          <Field
            label="desk_password"
            value={name}
            onChange={(e) => {
              setName(e.target.value);
            }}
          />
        </Labelled>
        <Labelled label="Environment" help="every one if empty">
          <Field
            label="staging"
            value={environment}
            onChange={(e) => {
              setEnvironment(e.target.value);
            }}
          />
        </Labelled>
        <Labelled
          label="Value"
          help="nobody but an admin of the project can read it again, with pane secret read"
        >
          <Field
            label="its value"
            type="password"
            autoComplete="new-password"
            value={value}
            onChange={(e) => {
              setValue(e.target.value);
            }}
          />
        </Labelled>
        <p>
          <Button type="submit" disabled={!name || !value || keep.isPending}>
            Keep
          </Button>
        </p>
        {keep.error && <Trouble error={keep.error} />}
      </form>
    </Sheet>
  );
}
