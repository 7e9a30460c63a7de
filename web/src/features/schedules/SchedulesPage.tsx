import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { get, post, remove, type Occurrences, type Preset, type Run, type Schedule } from "../../api/client";
import {
  Button,
  Choice,
  Confirm,
  Empty,
  Field,
  Heads,
  Labelled,
  Sheet,
  Toggle,
  Trouble,
  Waiting,
} from "../../ui/parts";
import { useNow } from "../../ui/useNow";
import { ago } from "../../ui/words";
import { inZone, ruleOf, type Plan } from "./rule";
import { useTitle } from "../../ui/useTitle";

/** What runs by itself, and what is saved to be run again? */
export function SchedulesPage() {
  useTitle("Schedules");
  const presets = useQuery({ queryKey: ["presets"], queryFn: () => get<Preset[]>("/presets") });
  const schedules = useQuery({
    queryKey: ["schedules"],
    queryFn: () => get<Schedule[]>("/schedules"),
    refetchInterval: 15_000,
  });
  const [find, setFind] = useState("");
  const error = presets.error ?? schedules.error;
  if (error) return <Trouble error={error} />;
  if (!presets.data || !schedules.data) return <Waiting />;
  const has = (...words: (string | undefined)[]) =>
    words.join(" ").toLowerCase().includes(find.trim().toLowerCase());
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <Sheet
        title="Schedules"
        aside={
          <span className="flex items-center gap-4">
            <Field
              label="Find schedule or preset"
              value={find}
              onChange={(e) => {
                setFind(e.target.value);
              }}
            />
            <a className="text-sm text-accent hover:underline" href="/api/v1/schedules.ics">
              iCalendar feed
            </a>
          </span>
        }
      >
        {schedules.data.length === 0 ? (
          <Empty title="Nothing runs by itself yet">
            Save a run as a preset, then say below when it shall run.
          </Empty>
        ) : (
          <ul>
            {schedules.data
              .filter((s) => has(s.name, s.preset))
              .map((s) => (
                <Line key={s.name} schedule={s} />
              ))}
          </ul>
        )}
      </Sheet>
      {presets.data.length > 0 && <Add presets={presets.data} />}
      <Sheet title="Presets">
        {presets.data.length === 0 ? (
          <Empty title="No preset yet">
            <Link to="/start" className="text-accent underline">
              Put a run together
            </Link>{" "}
            and save it, or use <code className="font-mono text-ink">pane preset save NAME</code>.
          </Empty>
        ) : (
          <Presets
            presets={presets.data.filter((p) => has(p.name, p.project, p.request.suite, p.request.matrix))}
          />
        )}
      </Sheet>
    </div>
  );
}

function Line({ schedule: s }: { schedule: Schedule }) {
  const queries = useQueryClient();
  const change = useMutation({
    mutationFn: (what: string): Promise<unknown> =>
      what === "remove" ? remove(`/schedules/${s.name}`) : post(`/schedules/${s.name}/${what}`),
    onSettled: () => queries.invalidateQueries({ queryKey: ["schedules"] }),
  });
  return (
    <li className="flex flex-wrap items-start gap-x-6 gap-y-1 border-t border-line px-4 py-3 first:border-0">
      <div className="min-w-64 grow">
        <p>
          <b className="font-medium">{s.name}</b> runs {s.preset} {s.words}
          {s.paused && <span className="text-flaky">, paused</span>}
        </p>
        <p className="text-xs text-soft">
          {s.next.length > 0
            ? `Next: ${s.next
                .slice(0, 3)
                .map((t) => inZone(t, s.zone))
                .join("; ")}`
            : !s.paused && !s.rule.startsWith("when ") && "It has no further occurrence."}
        </p>
        {s.last_note && (
          <p className="text-xs text-soft">
            Last: {s.last_note}
            {s.last_run > 0 && (
              <>
                {" "}
                as{" "}
                <Link className="underline" to={`/runs/${s.last_run}`}>
                  #{s.last_run}
                </Link>
              </>
            )}
          </p>
        )}
        <p className="text-xs text-soft">
          When the service was down: {s.missed === "run" ? "run once" : "skip"}. While the previous run goes
          on: {s.overlap === "cancel" ? "cancel it" : s.overlap}.
        </p>
      </div>
      <Button
        className="text-xs"
        onClick={() => {
          change.mutate(s.paused ? "resume" : "pause");
        }}
      >
        {s.paused ? "Resume" : "Pause"}
      </Button>
      <Confirm
        title={`Remove ${s.name}?`}
        text="It will not run any more. Its runs and its preset stay."
        action="Remove"
        onYes={() => {
          change.mutate("remove");
        }}
      >
        <Button className="text-xs">Remove</Button>
      </Confirm>
      {change.error && <Trouble error={change.error} />}
    </li>
  );
}

const days: [string, string][] = [
  ["MO", "Mon"],
  ["TU", "Tue"],
  ["WE", "Wed"],
  ["TH", "Thu"],
  ["FR", "Fri"],
  ["SA", "Sat"],
  ["SU", "Sun"],
];

function Add({ presets }: { presets: Preset[] }) {
  const queries = useQueryClient();
  const [p, setP] = useState<Plan>({
    name: "",
    preset: presets[0]?.name ?? "",
    often: "WEEKLY",
    days: ["MO", "FR"],
    time: "06:30",
    zone: Intl.DateTimeFormat().resolvedOptions().timeZone,
    until: "",
    count: "",
    own: "",
    change: "browser=chromium",
    missed: "run",
    overlap: "wait",
  });
  const set = (part: Partial<Plan>) => {
    setP({ ...p, ...part });
  };
  const rule = ruleOf(p);
  const next = useQuery({
    queryKey: ["occurrences", rule, p.zone],
    queryFn: () =>
      post<Occurrences>("/schedules/preview", { name: "", preset: "", rule, zone: p.zone, count: 5 }),
    placeholderData: (old) => old,
    retry: false,
  });
  const add = useMutation({
    mutationFn: () =>
      post<Schedule>("/schedules", {
        name: p.name,
        preset: p.preset,
        rule,
        zone: p.zone,
        missed: p.missed,
        overlap: p.overlap,
      }),
    onSuccess: () => {
      set({ name: "" });
      void queries.invalidateQueries({ queryKey: ["schedules"] });
    },
  });
  return (
    <Sheet title="New schedule">
      <form
        className="grid grid-cols-[1fr_22rem] gap-6 p-4"
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <div className="flex flex-wrap items-end gap-4">
          <Labelled label="Name">
            <Field
              label="nightly"
              value={p.name}
              onChange={(e) => {
                set({ name: e.target.value });
              }}
            />
          </Labelled>
          <Labelled label="Preset">
            <Choice
              label="Preset"
              value={p.preset}
              onChange={(v) => {
                set({ preset: v });
              }}
              options={presets.map((x) => [x.name, x.name])}
            />
          </Labelled>
          <Labelled label="How often">
            <Choice
              label="How often"
              value={p.often}
              onChange={(v) => {
                set({ often: v });
              }}
              options={[
                ["DAILY", "every day"],
                ["WEEKLY", "on weekdays"],
                ["MONTHLY", "every month"],
                ["change", "when a browser changes"],
                ["own", "by a rule of my own"],
              ]}
            />
          </Labelled>
          {p.often === "change" ? (
            <Labelled label="Browser, and channel if it matters">
              <Field
                label="browser=chromium channel=beta"
                size={32}
                value={p.change}
                onChange={(e) => {
                  set({ change: e.target.value });
                }}
              />
            </Labelled>
          ) : p.often === "own" ? (
            <Labelled label="Rule, as in RFC 5545">
              <Field
                label="FREQ=MONTHLY;BYDAY=1MO"
                size={36}
                value={p.own}
                onChange={(e) => {
                  set({ own: e.target.value });
                }}
              />
            </Labelled>
          ) : (
            <Labelled label="At">
              <Field
                label="time"
                type="time"
                value={p.time}
                onChange={(e) => {
                  set({ time: e.target.value });
                }}
              />
            </Labelled>
          )}
          {p.often === "WEEKLY" && (
            <div className="flex gap-1">
              {days.map(([d, name]) => (
                <Toggle
                  key={d}
                  on={p.days.includes(d)}
                  onChange={(on) => {
                    set({ days: on ? [...p.days, d] : p.days.filter((o) => o !== d) });
                  }}
                >
                  {name}
                </Toggle>
              ))}
            </div>
          )}
          <Labelled label="Time zone">
            <Field
              label="Europe/Berlin"
              value={p.zone}
              onChange={(e) => {
                set({ zone: e.target.value });
              }}
            />
          </Labelled>
          <Labelled label="Until">
            <Field
              label="until"
              type="date"
              value={p.until}
              onChange={(e) => {
                set({ until: e.target.value, count: "" });
              }}
            />
          </Labelled>
          <Labelled label="or so many times">
            <Field
              label="no end"
              type="number"
              min={1}
              className="w-24"
              value={p.count}
              onChange={(e) => {
                set({ count: e.target.value, until: "" });
              }}
            />
          </Labelled>
          <Labelled label="When the service was down">
            <Choice
              label="Missed"
              value={p.missed}
              onChange={(v) => {
                set({ missed: v });
              }}
              options={[
                ["run", "run once"],
                ["skip", "skip"],
              ]}
            />
          </Labelled>
          <Labelled label="While the previous run goes on">
            <Choice
              label="Overlap"
              value={p.overlap}
              onChange={(v) => {
                set({ overlap: v });
              }}
              options={[
                ["wait", "wait for it"],
                ["skip", "skip"],
                ["cancel", "cancel it"],
              ]}
            />
          </Labelled>
          <Button type="submit" kind="accent" disabled={p.name.trim() === "" || next.isError}>
            Save the schedule
          </Button>
          {add.error && <Trouble error={add.error} />}
        </div>
        <div className="text-sm" aria-live="polite">
          {next.error ? (
            <p className="text-failed">{next.error.message}</p>
          ) : (
            next.data && (
              <>
                <p className="mb-1">{next.data.words}</p>
                <ol className="text-soft">
                  {next.data.occurrences.map((t) => (
                    <li key={t}>{inZone(t, p.zone)}</li>
                  ))}
                </ol>
              </>
            )
          )}
        </div>
      </form>
    </Sheet>
  );
}

function Presets({ presets }: { presets: Preset[] }) {
  const now = useNow(false);
  const go = useNavigate();
  const queries = useQueryClient();
  const run = useMutation({
    mutationFn: (name: string) => post<Run>(`/presets/${name}/run`),
    onSuccess: (r) => go(`/runs/${r.number}`),
  });
  const drop = useMutation({
    mutationFn: (name: string) => remove(`/presets/${name}`),
    onSettled: () => queries.invalidateQueries({ queryKey: ["presets"] }),
  });
  const error = run.error ?? drop.error;
  return (
    <>
      {error && <Trouble error={error} />}
      <table className="w-full text-left text-sm">
        <Heads of={["Preset", "Suite on matrix", "Changed", "Used", ""]} />
        <tbody>
          {presets.map((p) => (
            <tr key={p.name} className="border-t border-line">
              <td className="px-4 py-2.5 font-medium">{p.name}</td>
              <td className="px-4">
                {p.project} {p.request.suite}{" "}
                <span className="text-soft">
                  on {p.request.matrix}
                  {p.request.deal === "spread" && ", spread"}
                </span>
              </td>
              <td className="px-4 text-soft">
                {p.changed_by}, {ago(p.changed_at, now)}
              </td>
              <td className="px-4 text-soft">
                {p.used === 0 ? (
                  "never"
                ) : (
                  <>
                    {p.used} times, last by {p.last_by} as{" "}
                    <Link className="underline" to={`/runs/${p.last_run}`}>
                      #{p.last_run}
                    </Link>{" "}
                    {ago(p.last_at, now)}
                  </>
                )}
              </td>
              <td className="px-4">
                <span className="flex justify-end gap-1.5">
                  <Button
                    className="text-xs"
                    onClick={() => {
                      run.mutate(p.name);
                    }}
                  >
                    Run
                  </Button>
                  <Button
                    className="text-xs"
                    onClick={() => {
                      void go(`/start?preset=${p.name}`);
                    }}
                  >
                    Edit
                  </Button>
                  <Confirm
                    title={`Remove ${p.name}?`}
                    text="Runs made from it stay."
                    action="Remove"
                    onYes={() => {
                      drop.mutate(p.name);
                    }}
                  >
                    <Button className="text-xs">Remove</Button>
                  </Confirm>
                </span>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}
