import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import {
  get,
  post,
  type KnownSuite,
  type ProjectSettings,
  type Rule,
  type Storage,
  type Sweep,
  type Who,
} from "../../api/client";
import { said } from "../../ui/Glass";
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
import { bytes, many } from "../../ui/words";
import { useTitle } from "../../ui/useTitle";
import { isAdmin } from "../people/rights";

const kinds = ["commands", "screenshots", "video", "network", "console", "logs", "downloads"] as const;
const verdicts = ["failed", "lab-fault", "flaky", "aside", "ended", "skipped", "passed"];
const usual: Record<(typeof kinds)[number], [string, string]> = {
  commands: ["always", "always"],
  screenshots: ["unless-passed", "unless-passed"],
  video: ["never", "never"],
  network: ["unless-passed", "never"],
  console: ["unless-passed", "never"],
  logs: ["unless-passed", "always"],
  downloads: ["always", "always"],
};

/** What is recorded, for how long is it kept, and is there room? */
export function KeepPage() {
  useTitle("Recordings");
  const [params, setParams] = useSearchParams();
  const suites = useQuery({ queryKey: ["suites"], queryFn: () => get<KnownSuite[]>("/suites") });
  const storage = useQuery({ queryKey: ["storage"], queryFn: () => get<Storage>("/storage") });
  const project = params.get("project") ?? suites.data?.[0]?.project ?? "unnamed";
  const settings = useQuery({
    queryKey: ["project", project],
    queryFn: () => get<ProjectSettings>(`/projects/${encodeURIComponent(project)}`),
    enabled: suites.isSuccess,
  });
  const known = [...new Set([...(suites.data ?? []).map((s) => s.project), project, "unnamed"])]
    .filter((p) => p !== "*")
    .sort();
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <div className="flex flex-wrap items-end gap-4">
        <Labelled label="Project">
          <Choice
            label="Project"
            value={project}
            onChange={(v) => {
              setParams({ project: v }, { replace: true });
            }}
            options={[
              ...known.map((p): [string, string] => [
                p,
                p === "unnamed" ? "unnamed (sessions that name none)" : p,
              ]),
              ["*", "every project without rules of its own"],
            ]}
          />
        </Labelled>
        {storage.data && (
          <p className="ml-auto text-sm text-soft">
            {bytes(storage.data.free)} of {bytes(storage.data.total)} free; recordings need{" "}
            {bytes(storage.data.need)}.
          </p>
        )}
      </div>
      {settings.isPending ? (
        <Waiting />
      ) : settings.error ? (
        <Trouble error={settings.error} again={() => void settings.refetch()} />
      ) : (
        <div className="grid items-start gap-4 lg:grid-cols-2">
          {project !== "*" && <Recorded key={`r${project}`} settings={settings.data} />}
          <Kept key={`k${project}`} settings={settings.data} />
        </div>
      )}
      {!settings.isPending && (
        <>
          <Sweeping />
          <BackUp />
        </>
      )}
    </div>
  );
}

/** Changes what is settled, one change after the other, each on top of what is settled by then. */
function useSettle(name: string) {
  const queries = useQueryClient();
  const path = `/projects/${encodeURIComponent(name)}`;
  return useMutation({
    scope: { id: path },
    mutationFn: async (change: (s: ProjectSettings) => Partial<ProjectSettings>) => {
      const now = await get<ProjectSettings>(path);
      return post(path, { record: now.record, keep: now.keep, ...change(now) });
    },
    onSuccess: () => queries.invalidateQueries({ queryKey: ["project", name] }),
  });
}

function Recorded({ settings: s }: { settings: ProjectSettings }) {
  const settle = useSettle(s.name);
  const record = s.record as Record<string, string>;
  return (
    <Sheet title="Recorded">
      <table className="w-full text-left text-sm">
        <Heads of={["Kind", "Settled", "Scripts", "Runners' sessions"]} />
        <tbody>
          {kinds.map((k) => (
            <tr key={k} className="border-t border-line">
              <td className="px-4 py-2">{k}</td>
              <td className="px-4 py-2">
                <Choice
                  label={`Record ${k}`}
                  value={record[k] ?? ""}
                  options={[
                    ["", "as usual"],
                    ["never", "never"],
                    ["unless-passed", "unless passed"],
                    ["always", "always"],
                  ]}
                  onChange={(v) => {
                    settle.mutate((now) => ({
                      record: Object.fromEntries(
                        Object.entries({ ...now.record, [k]: v }).filter(([, x]) => x !== ""),
                      ),
                    }));
                  }}
                />
              </td>
              <td className="px-4 py-2 text-soft">{said(record[k] ?? usual[k][0])}</td>
              <td className="px-4 py-2 text-soft">{said(record[k] ?? usual[k][1])}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="border-t border-line px-4 py-2.5 text-xs text-soft">
        A run can say otherwise with <code className="font-mono text-ink">--record</code>, a session in{" "}
        <code className="font-mono text-ink">pane:options</code>. Network and console need a second connection
        to the browser; WebKit has none.
      </p>
      {settle.error && <Trouble error={settle.error} />}
    </Sheet>
  );
}

function Kept({ settings: s }: { settings: ProjectSettings }) {
  const settle = useSettle(s.name);
  const [kind, setKind] = useState("");
  const [verdict, setVerdict] = useState("");
  const [days, setDays] = useState("30");
  const set = (keep: (now: Rule[]) => Rule[]) => {
    settle.mutate((now) => ({ keep: keep(now.keep) }));
  };
  const same = (r: Rule) => (r.kind ?? "") === kind && (r.verdict ?? "") === verdict;
  const n = Number(days);
  return (
    <Sheet title="Kept">
      {s.keep.length === 0 ? (
        <Empty title="No rules of its own">
          {s.name === "*"
            ? "As usual: everything for 90 days, of tests that passed 30; videos for 30 days, of tests that passed 7."
            : "What is settled for every project holds here."}
        </Empty>
      ) : (
        <table className="w-full text-left text-sm">
          <tbody>
            {s.keep.map((r) => (
              <tr
                key={`${r.kind ?? ""}:${r.verdict ?? ""}`}
                className="border-t border-line first:border-t-0"
              >
                <td className="px-4 py-2">{r.kind ?? "every kind"}</td>
                <td className="px-4 py-2">{r.verdict ? `of ${said(r.verdict)} tests` : "of every test"}</td>
                <td className="px-4 py-2">{r.days === 0 ? "for ever" : `for ${many(r.days, "day")}`}</td>
                <td className="px-4 py-2 text-right">
                  <Button
                    className="text-xs"
                    onClick={() => {
                      set((now) => now.filter((x) => x.kind !== r.kind || x.verdict !== r.verdict));
                    }}
                  >
                    Drop
                  </Button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <form
        className="flex flex-wrap items-end gap-2 border-t border-line p-4"
        onSubmit={(e) => {
          e.preventDefault();
          set((now) => [
            ...now.filter((r) => !same(r)),
            { ...(kind && { kind }), ...(verdict && { verdict }), days: n },
          ]);
        }}
      >
        <Choice
          label="Kind"
          value={kind}
          onChange={setKind}
          options={[["", "every kind"], ...kinds.map((k): [string, string] => [k, k])]}
        />
        <Choice
          label="Verdict"
          value={verdict}
          onChange={setVerdict}
          options={[
            ["", "of every test"],
            ...verdicts.map((v): [string, string] => [v, `of ${said(v)} tests`]),
          ]}
        />
        <Field
          label="Days, 0 for ever"
          size={6}
          value={days}
          onChange={(e) => {
            setDays(e.target.value);
          }}
          inputMode="numeric"
        />
        <span className="py-1.5 text-sm text-soft">days</span>
        <Button type="submit" disabled={days.trim() === "" || !(n >= 0 && n <= 36500)}>
          Settle
        </Button>
      </form>
      {settle.error && <Trouble error={settle.error} />}
    </Sheet>
  );
}

/** A backup holds every project, so that only the lab's admin is offered one. */
function BackUp() {
  const me = useQuery({ queryKey: ["me"], queryFn: () => get<Who>("/me"), staleTime: Infinity });
  if (!isAdmin(me.data)) return null;
  return (
    <Sheet title="Backup">
      <p className="p-4 text-sm text-soft">
        <a className="text-accent underline" href="/api/v1/backup" download>
          Save everything to a file
        </a>{" "}
        while the service goes on, as <code className="font-mono text-ink">pane backup FILE</code> does;{" "}
        <code className="font-mono text-ink">pane restore FILE</code> makes a data directory of it.
      </p>
    </Sheet>
  );
}

function Sweeping() {
  const sweep = useMutation({ mutationFn: (dry: boolean) => post<Sweep>("/sweeps", { dry }) });
  const done = sweep.data;
  return (
    <Sheet
      title="Sweep"
      aside={
        <div className="flex gap-2">
          <Button
            onClick={() => {
              sweep.mutate(true);
            }}
          >
            See what would go
          </Button>
          <Confirm
            title="Remove what is over its time?"
            text="The files are gone for good. Verdicts, messages and steps stay. It happens by itself every hour."
            action="Remove the files"
            onYes={() => {
              sweep.mutate(false);
            }}
          >
            <Button kind="danger">Sweep now</Button>
          </Confirm>
        </div>
      }
    >
      {sweep.error && <Trouble error={sweep.error} />}
      {!done ? (
        <p className="p-4 text-sm text-soft">Files whose time is over go by themselves every hour.</p>
      ) : (
        <>
          <p className="p-4 text-sm">
            {done.count === 0
              ? "Nothing is over its time"
              : `${many(done.count, "file")} with ${bytes(done.bytes)} ${done.dry ? "would go" : "removed"}`}
            ; {done.left} with {bytes(done.left_bytes)} stay.
            {done.orphans > 0 &&
              ` ${many(done.orphans, "content")} that no record names, with ${bytes(done.orphan_bytes)}, ${done.dry ? "would go" : "removed"}.`}
          </p>
          {done.files.length > 0 && (
            <table className="w-full text-left text-sm">
              <tbody>
                {done.files.slice(0, 100).map((f) => (
                  <tr key={f.session + f.name} className="border-t border-line">
                    <td className="px-4 py-1.5">
                      <Link className="hover:underline" to={`/sessions/${f.session}`}>
                        {f.name}
                      </Link>
                    </td>
                    <td className="px-4">{f.project}</td>
                    <td className="px-4">{said(f.verdict)}</td>
                    <td className="px-4">{bytes(f.size)}</td>
                    <td className="px-4 text-soft">{f.why}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
        </>
      )}
    </Sheet>
  );
}
