import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Fragment, useState, type ReactNode } from "react";
import { useNavigate, useSearchParams } from "react-router";
import {
  get,
  post,
  type KnownSuite,
  type Preset,
  type Relay,
  type Preview,
  type Run,
  type RunRequest,
} from "../../api/client";
import { Glass } from "../../ui/Glass";
import {
  Button,
  Choice,
  Copyable,
  Empty,
  Field,
  Hint,
  Labelled,
  Sheet,
  Toggle,
  Trouble,
  Waiting,
} from "../../ui/parts";
import { took } from "../../ui/words";
import { commandOf, needsOf, needsText } from "./command";
import { useTitle } from "../../ui/useTitle";

/** What should run, where and how? Beside it what that comes to, and the command that does the same. */
export function StartPage() {
  useTitle("New run");
  const [params] = useSearchParams();
  const suites = useQuery({ queryKey: ["suites"], queryFn: () => get<KnownSuite[]>("/suites") });
  const presets = useQuery({ queryKey: ["presets"], queryFn: () => get<Preset[]>("/presets") });
  const error = suites.error ?? presets.error;
  if (error) return <Trouble error={error} />;
  if (!suites.data || !presets.data) return <Waiting />;
  if (suites.data.length === 0)
    return (
      <Empty title="No suite is known yet">
        A suite comes here with its first run: in its directory, run{" "}
        <code className="font-mono text-ink">pane run</code>.
      </Empty>
    );
  return <Form suites={suites.data} presets={presets.data} first={params.get("preset")} />;
}

function Form({ suites, presets, first }: { suites: KnownSuite[]; presets: Preset[]; first: string | null }) {
  const start = presets.find((p) => p.name === first);
  const fresh = suites[0];
  const [req, setReq] = useState<RunRequest>(
    start?.request ?? { bundle: fresh?.bundle ?? "", suite: fresh?.suite ?? "" },
  );
  const preview = useQuery({
    queryKey: ["preview", req],
    queryFn: () => post<Preview>("/runs/preview", req),
    placeholderData: (old) => old,
    retry: false,
    refetchInterval: 10_000,
  });
  const relays = useQuery({ queryKey: ["relays", ""], queryFn: () => get<Relay[]>("/relays") });
  const project = suites.find((x) => x.bundle === req.bundle && x.suite === req.suite)?.project;
  const set = (part: Partial<RunRequest>) => {
    setReq({ ...req, ...part });
  };
  const p = preview.data;
  const number = (
    label: string,
    key: "lanes" | "limit" | "retries" | "stop_after" | "priority" | "test_limit_s" | "run_limit_s",
    help: string,
    hint: string,
  ) => (
    <Labelled label={label} help={help}>
      <Field
        label={hint}
        type="number"
        min={key === "priority" ? -9 : 0}
        value={req[key] ? String(req[key]) : ""}
        onChange={(e) => {
          set({ [key]: Number(e.target.value) || 0 });
        }}
      />
    </Labelled>
  );
  return (
    <div className="grid grid-cols-[minmax(24rem,30rem)_1fr] items-start gap-4">
      <Sheet
        title="New run"
        aside={
          presets.length > 0 && (
            <Choice
              label="Preset"
              value=""
              onChange={(v) => {
                const x = presets.find((o) => o.name === v);
                if (x) setReq(x.request);
              }}
              options={[["", "from a preset …"], ...presets.map((x): [string, string] => [x.name, x.name])]}
            />
          )
        }
      >
        <div className="grid gap-4 p-4">
          <Part title="What">
            <Labelled label="Suite">
              <Choice
                label="Suite"
                value={`${req.bundle} ${req.suite ?? ""}`}
                onChange={(v) => {
                  const [bundle = "", suite = ""] = v.split(" ");
                  setReq({ bundle, suite });
                }}
                options={suites
                  .map((s): [string, string] => [`${s.bundle} ${s.suite}`, `${s.project} ${s.suite}`])
                  .concat(
                    suites.some((s) => s.bundle === req.bundle && s.suite === req.suite)
                      ? []
                      : [[`${req.bundle} ${req.suite ?? ""}`, `${req.suite ?? ""} (files of the preset)`]],
                  )}
              />
            </Labelled>
            <Labelled label="Environment">
              <Choice
                label="Environment"
                value={req.environment ?? ""}
                onChange={(v) => {
                  set({ environment: v });
                }}
                options={[
                  ["", p ? `default (${p.environment || "none"})` : "default"],
                  ...(p?.environments ?? []).map((e): [string, string] => [e, e]),
                ]}
              />
            </Labelled>
            {p && p.settings.length > 0 && (
              <details className="col-span-2 text-sm">
                <summary className="cursor-pointer text-soft">
                  Base address and variables, and where each comes from
                </summary>
                <dl className="mt-2 grid grid-cols-[auto_minmax(0,1fr)] gap-x-4 gap-y-1">
                  {p.settings.map((s) => (
                    <Fragment key={s.name}>
                      <dt className="text-soft">{s.name.replace(/^vars\./, "")}</dt>
                      <dd className="min-w-0">
                        <span className="font-mono text-xs break-all">{s.value}</span>
                        <span className="block text-xs text-soft">
                          from {s.from}
                          {s.over.length > 0 &&
                            `, instead of ${s.over.map((o) => `${o.value} (${o.from})`).join(", ")}`}
                        </span>
                      </dd>
                    </Fragment>
                  ))}
                </dl>
              </details>
            )}
            {p && p.tags.length > 0 && (
              <div className="col-span-2 flex flex-wrap gap-1.5">
                <span className="self-center text-sm text-soft">Only tags</span>
                {p.tags.map((t) => (
                  <Toggle
                    key={t}
                    on={(req.tags ?? []).length === 0 || (req.tags ?? []).includes(t)}
                    onChange={() => {
                      const now = req.tags ?? [];
                      set({ tags: now.includes(t) ? now.filter((o) => o !== t) : [...now, t] });
                    }}
                  >
                    {t}
                  </Toggle>
                ))}
                {(req.tags ?? []).length > 0 && (
                  <button
                    type="button"
                    className="text-xs text-soft hover:text-ink"
                    onClick={() => {
                      set({ tags: [] });
                    }}
                  >
                    all
                  </button>
                )}
              </div>
            )}
          </Part>
          <Part title="Where">
            <Labelled label="Matrix">
              <Choice
                label="Matrix"
                value={req.matrix ?? ""}
                onChange={(v) => {
                  set({ matrix: v });
                }}
                options={[
                  ["", p ? `default (${p.matrix})` : "default"],
                  ...(p?.matrices ?? []).map((m): [string, string] => [m.name, m.name]),
                ]}
              />
            </Labelled>
            <Labelled label="Agents must also have">
              <Field
                key={start?.name}
                label="site=quay"
                defaultValue={needsText(req.needs)}
                onBlur={(e) => {
                  set({ needs: needsOf(e.target.value) });
                }}
              />
            </Labelled>
          </Part>
          <Part title="How">
            <Labelled label="Deal">
              <Choice
                label="Deal"
                value={req.deal ?? "every"}
                onChange={(v) => {
                  set({ deal: v as "every" | "spread" });
                }}
                options={[
                  ["every", "every test everywhere"],
                  ["spread", "each test once, spread"],
                ]}
              />
            </Labelled>
            <Labelled label="Browser">
              <Choice
                label="Browser"
                value={req.browser ?? "fresh"}
                onChange={(v) => {
                  set({ browser: v as "fresh" | "kept" });
                }}
                options={[
                  ["fresh", "fresh for each test"],
                  ["kept", "kept for a slice"],
                ]}
              />
            </Labelled>
            <Labelled label="Locators that age">
              <Choice
                label="Locators that find nothing any more"
                value={req.mending ?? ""}
                onChange={(v) => {
                  set({ mending: v === "" ? undefined : (v as "never" | "suggest" | "accept") });
                }}
                options={[
                  ["", "as the project says"],
                  ["never", "fail"],
                  ["suggest", "fail, and say what is like it"],
                  ["accept", "go on with what is certain"],
                ]}
              />
            </Labelled>
            {number("Lanes", "lanes", "most slots of one combination", "no limit")}
            {number("Limit", "limit", "most slots of the whole run", "no limit")}
            {number("Retries", "retries", "attempts after a failure", "none")}
            {number("Stop after", "stop_after", "failures before the rest is skipped", "never")}
            {number("Priority", "priority", "-9 to 9, within the project", "0")}
            {number("Run limit", "run_limit_s", "seconds", "none")}
            <Labelled label="Way to the site" help="kbit/s and milliseconds">
              <Field
                label="down=1500 up=750 delay=120"
                value={req.traffic ?? ""}
                onChange={(e) => {
                  set({ traffic: e.target.value });
                }}
              />
            </Labelled>
            <Labelled label="Relay" help="the way in to an application that one machine reaches">
              <Choice
                label="Relay"
                value={req.relay ?? ""}
                onChange={(v) => {
                  set({ relay: v });
                }}
                options={[
                  ["", "none: the agents reach it"],
                  ...[
                    ...new Set([
                      ...(relays.data ?? []).filter((x) => x.project === project).map((x) => x.name),
                      ...(req.relay ? [req.relay] : []),
                    ]),
                  ].map((name): [string, string] => [name, name]),
                ]}
              />
            </Labelled>
          </Part>
          <Part title="Recorded, instead of what is usual for the project">
            {(["commands", "screenshots", "video", "network", "console", "logs", "downloads"] as const).map(
              (k) => (
                <Labelled key={k} label={k}>
                  <Choice
                    label={`Record ${k}`}
                    value={req.record?.[k] ?? ""}
                    options={[
                      ["", "as usual"],
                      ["never", "never"],
                      ["unless-passed", "unless passed"],
                      ["always", "always"],
                    ]}
                    onChange={(v) => {
                      set({
                        record: Object.fromEntries(
                          Object.entries({ ...req.record, [k]: v }).filter(([, x]) => x !== ""),
                        ),
                      });
                    }}
                  />
                </Labelled>
              ),
            )}
          </Part>
        </div>
      </Sheet>
      <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
        {preview.error ? (
          <Trouble error={preview.error} />
        ) : p ? (
          <Outlook p={p} req={req} busy={preview.isFetching} />
        ) : (
          <Waiting />
        )}
      </div>
    </div>
  );
}

function Part({ title, children }: { title: string; children: ReactNode }) {
  return (
    <fieldset className="grid grid-cols-2 gap-3">
      <legend className="mb-2 font-medium">{title}</legend>
      {children}
    </fieldset>
  );
}

function Outlook({ p, req, busy }: { p: Preview; req: RunRequest; busy: boolean }) {
  const go = useNavigate();
  const queries = useQueryClient();
  const [name, setName] = useState("");
  const start = useMutation({
    mutationFn: () => post<Run>("/runs", req),
    onSuccess: (r) => go(`/runs/${r.number}`),
  });
  const save = useMutation({
    mutationFn: () => post<Preset>("/presets", { name, request: req }),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["presets"] }),
  });
  const impossible = p.combinations.filter((c) => c.impossible);
  return (
    <>
      <Sheet
        title={
          <span aria-live="polite">
            <b className="text-xl">{p.cases}</b> tests to run: {p.tests.length} on {p.combinations.length}{" "}
            combinations
          </span>
        }
        aside={
          <Button
            kind="accent"
            disabled={start.isPending}
            onClick={() => {
              start.mutate();
            }}
          >
            Start the run
          </Button>
        }
      >
        <div className={`grid gap-3 p-4 ${busy ? "opacity-80" : ""}`}>
          <p className="text-base">
            {p.expected_s > 0 ? (
              <>
                Started now it would end after about <b>{took(p.expected_s * 1000)}</b>
                {p.unknown > 0 && (
                  <span className="text-soft"> ({p.unknown} of them have no past to go by)</span>
                )}
                .
              </>
            ) : (
              <span className="text-flaky">
                As things are it would not end: no agent takes some of the work now.
              </span>
            )}
          </p>
          {req.deal === "spread" && (
            <p className="text-sm text-soft">
              The last {p.met.runs} runs met {p.met.met} of {p.met.pairs} pairs of test and combination; each
              run moves on by one.
            </p>
          )}
          <ul className="flex flex-wrap gap-1.5">
            {p.combinations.slice(0, 200).map((c) => (
              <li key={c.key}>
                <Hint text={c.impossible ?? c.label}>
                  <span
                    tabIndex={0}
                    className="flex items-center gap-2 rounded border border-line px-2 py-1 text-xs"
                  >
                    <Glass size={13} fill={c.impossible ? "unsupported" : "queued"} label="" />
                    {c.label}
                  </span>
                </Hint>
              </li>
            ))}
          </ul>
          {impossible.length > 0 && (
            <p className="text-sm text-failed">
              Nobody can run {impossible.length} of them: {impossible[0]?.impossible}
            </p>
          )}
          {p.missing.length > 0 && (
            <p className="text-sm text-soft">
              {p.missing.length} left out, such as {Object.values(p.missing[0]?.values ?? {}).join(" · ")}:{" "}
              {p.missing[0]?.reason}
            </p>
          )}
          {start.error && <Trouble error={start.error} />}
        </div>
      </Sheet>
      <Sheet title="The same from a terminal, in the project's directory">
        <div className="p-4">
          <Copyable label="Command" text={commandOf(p, req)} />
        </div>
      </Sheet>
      <Sheet title="Save as a preset">
        <form
          className="flex items-center gap-3 p-4"
          onSubmit={(e) => {
            e.preventDefault();
            save.mutate();
          }}
        >
          <Field
            label="Name, such as nightly"
            value={name}
            onChange={(e) => {
              setName(e.target.value);
            }}
          />
          <Button type="submit" disabled={name.trim() === ""}>
            Save
          </Button>
          {save.isSuccess && <span className="text-sm text-passed">Saved.</span>}
          {save.error && <span className="text-sm text-failed">{save.error.message}</span>}
        </form>
      </Sheet>
    </>
  );
}
