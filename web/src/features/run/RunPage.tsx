import { memo, useCallback } from "react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { post, type Cause, type Pane, type Run } from "../../api/client";
import { Counts, fillOf, Glass, inkOf, said } from "../../ui/Glass";
import { Button, Confirm, Hint, Trouble, Waiting } from "../../ui/parts";
import { useNow } from "../../ui/useNow";
import { between, many, took } from "../../ui/words";
import { Causes, useCauses } from "./Causes";
import { Notes } from "../pass/Notes";
import { PassOn } from "../pass/PassOn";
import { useShared } from "../pass/useShared";
import { Mending } from "./Mending";
import { Unsupported } from "./Unsupported";
import { useRun } from "./useRun";
import { Wall } from "./Wall";
import { useTitle } from "../../ui/useTitle";
import { paneWords } from "./paneWords";

/** How did this run go? */
export function RunPage() {
  const { number = "" } = useParams();
  const run = useRun(number);
  const [params, setParams] = useSearchParams();
  const choose = useCallback(
    (key: string) => {
      setParams((old) => toggled(old, "pane", key), { replace: true });
    },
    [setParams],
  );
  useTitle(run.data && `#${run.data.number} ${said(run.data.verdict || run.data.state)}`, run.data?.suite);
  if (run.isPending) return <Waiting />;
  if (run.error) return <Trouble error={run.error} again={() => void run.refetch()} />;
  const only = params.get("pane");
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <Head run={run.data} />
      <Left run={run.data} />
      <Window run={run.data} chosen={only} onChoose={choose} />
      <Told
        run={run.data}
        only={only}
        cause={params.get("cause")}
        onCause={(id) => {
          setParams((old) => toggled(old, "cause", id), { replace: true });
        }}
      />
      <Unsupported run={run.data} />
    </div>
  );
}

/** An address with a choice made, or taken back where it was made already. */
function toggled(old: URLSearchParams, name: string, value: string): URLSearchParams {
  const next = new URLSearchParams(old);
  if (old.get(name) === value) next.delete(name);
  else next.set(name, value);
  return next;
}

const none: Cause[] = [];

/** What went wrong, and the wall on which it shows. */
function Told({
  run,
  only,
  cause,
  onCause,
}: {
  run: Run;
  only: string | null;
  cause: string | null;
  onCause: (id: string) => void;
}) {
  const found = useCauses(run);
  const shared = useShared();
  const causes = found.data?.causes ?? none;
  const chosen = causes.find((c) => c.id === cause);
  return (
    <>
      <Causes run={run} found={found} chosen={cause} onChoose={onCause} />
      <Mending run={run} />
      {!shared && (
        <Notes
          run={run.number}
          about={[
            ["on the run", { kind: "run" }],
            ...causes.map((c): [string, { kind: "cause"; cause: string }] => [
              `on the cause ${c.title.slice(0, 50)}`,
              { kind: "cause", cause: c.id },
            ]),
          ]}
        />
      )}
      <Wall run={run} only={only} cause={chosen} causes={causes} />
    </>
  );
}

function Head({ run }: { run: Run }) {
  const now = useNow(run.state !== "ended");
  const queries = useQueryClient();
  const shared = useShared();
  const cancel = useMutation({
    mutationFn: () => post<Run>(`/runs/${run.number}/cancel`),
    onSettled: () => queries.invalidateQueries({ queryKey: ["run", String(run.number)] }),
  });
  const fill = fillOf(run.state, run.verdict);
  const time = between(run.started_at, run.ended_at, now);
  return (
    <div className="flex flex-wrap items-center gap-x-5 gap-y-2">
      <Glass fill={fill} size={30} />
      <div>
        <h1 className="text-lg font-semibold">
          Run #{run.number} <span className={inkOf[fill]}>{said(run.verdict || run.state)}</span>
        </h1>
        <p className="text-sm text-soft">
          {run.project} {run.suite}
          {run.kind === "remote" ? ", sessions of a runner" : ` on ${run.matrix}`}
          {run.environment && `, ${run.environment}`}
          {run.request.relay && `, through relay ${run.request.relay}`}
          {run.base && ` at ${run.base}`}, by {run.by}
          {run.why && ` — ${run.why}`}
        </p>
      </div>
      <div className="ml-auto flex items-center gap-5 text-sm">
        <Counts counts={run.counts} />
        <span>
          {time === null ? "not started" : took(time)}
          {run.expected_at && (
            <span className="text-soft">
              , expected to end in {took(Math.max(0, Date.parse(run.expected_at) - now))}
            </span>
          )}
        </span>
        <Link className="text-accent hover:underline" to={`/runs/${run.number}/timeline`}>
          Timeline
        </Link>
        {run.state === "ended" && run.kind === "script" && (
          <Link className="text-accent hover:underline" to={`/runs/${run.number}/forecast`}>
            Forecast
          </Link>
        )}
        <PassOn run={run} />
        {run.kind === "remote" && (
          <Link className="text-accent hover:underline" to={`/sessions?run=${run.number}`}>
            Sessions
          </Link>
        )}
        {!shared && run.state === "ended" && run.kind === "script" && <Again run={run} />}
        {!shared && run.state !== "ended" && (
          <Confirm
            title={`Cancel run #${run.number}?`}
            text="What runs now is dropped, and every test without a verdict is skipped."
            action="Cancel the run"
            onYes={() => {
              cancel.mutate();
            }}
          >
            <Button kind="danger">Cancel run</Button>
          </Confirm>
        )}
      </div>
      {cancel.error && <Trouble error={cancel.error} />}
    </div>
  );
}

/** Starts an ended run again. */
function Again({ run }: { run: Run }) {
  const go = useNavigate();
  const again = useMutation({
    mutationFn: (notPassed: boolean) => post<Run>(`/runs/${run.number}/again`, { not_passed: notPassed }),
    onSuccess: (r) => go(`/runs/${r.number}`),
  });
  const some = ["failed", "lab-fault", "skipped"].some((v) => (run.counts[v] ?? 0) > 0);
  return (
    <>
      {some && (
        <Button
          onClick={() => {
            again.mutate(true);
          }}
        >
          Again what did not pass
        </Button>
      )}
      <Button
        onClick={() => {
          again.mutate(false);
        }}
      >
        Again
      </Button>
      {again.error && <Trouble error={again.error} />}
    </>
  );
}

/** The version that all panes of a group ran on; several are told pane by pane. */
function versions(panes: Pane[]): string {
  const all = new Set(panes.map((p) => p.info.version).filter(Boolean));
  return all.size === 1 ? [...all].join() : all.size > 1 ? `${all.size} versions` : "";
}

/** More panes than these are drawn small, so that the wall stays in sight. */
const manyPanes = 24;

/** Panes side by side, grouped by browser. */
function Window({
  run,
  chosen,
  onChoose,
}: {
  run: Run;
  chosen: string | null;
  onChoose: (key: string) => void;
}) {
  const families = new Map<string, Pane[]>();
  for (const p of run.panes) {
    const family = p.values["browser"] ?? p.values["engine"] ?? "";
    families.set(family, [...(families.get(family) ?? []), p]);
  }
  const small = run.panes.length > manyPanes;
  return (
    <div className="flex flex-wrap gap-3">
      {[...families].map(([family, panes]) => (
        <section
          key={family}
          aria-label={family}
          className="grow rounded-md border border-line bg-sheet p-2.5"
        >
          <h2 className="mb-2 px-1 text-xs text-soft">
            {family} {versions(panes)}
          </h2>
          <div
            className={
              small
                ? "still grid grid-cols-[repeat(auto-fill,minmax(8.5rem,1fr))] gap-1.5"
                : "flex flex-wrap gap-2"
            }
          >
            {panes.map((p) => (
              <PaneCard
                key={p.key}
                name={rest(run, p)}
                pane={p}
                small={small}
                several={versions(panes).endsWith(" versions")}
                pressed={p.key === chosen}
                onChoose={onChoose}
              />
            ))}
          </div>
        </section>
      ))}
    </div>
  );
}

/** What the matrix left out of this run. */
function Left({ run }: { run: Run }) {
  const n = run.plan.missing.length + run.plan.cover.left;
  if (n === 0 && run.again_of === 0 && run.plan.renamed.length === 0) return null;
  return (
    <details className="text-sm text-soft">
      <summary className="cursor-pointer">
        {run.again_of > 0 && `Repeats run #${run.again_of}. `}
        {n > 0 && `${n} combinations or tuples of values are left out of this run. `}
        {run.plan.renamed.length > 0 &&
          `${many(run.plan.renamed.length, "test")} had another name before: what it did stays its own.`}
      </summary>
      <ul className="mt-2 max-h-64 overflow-y-auto rounded border border-line p-3">
        {run.plan.renamed.map((x) => (
          <li key={x.is} className="py-0.5">
            <span className="text-ink">{x.is}</span> was called {x.was}
          </li>
        ))}
        {run.plan.missing.map((m) => (
          <li key={JSON.stringify(m.values)} className="py-0.5">
            <span className="text-ink">{Object.values(m.values).join(" · ")}</span>: {m.reason}
          </li>
        ))}
      </ul>
    </details>
  );
}

/** What tells this pane from its neighbours of the same browser. */
function rest(run: Run, p: Pane): string {
  const own = Object.entries(p.values)
    .filter(([axis, v]) => axis !== "browser" && run.panes.some((o) => o.values[axis] !== v))
    .map(([, v]) => v);
  return own.join(" · ") || p.label;
}

const PaneCard = memo(function PaneCard({
  name,
  pane,
  several,
  small,
  pressed,
  onChoose,
}: {
  name: string;
  pane: Pane;
  several: boolean;
  small: boolean;
  pressed: boolean;
  onChoose: (key: string) => void;
}) {
  const fill = fillOf(pane.state, pane.verdict);
  const missing = pane.info.emulated.missing;
  const where = [
    several && pane.info.version,
    pane.took_ms > 0 ? took(pane.took_ms) : "–",
    pane.agents.length > 0 && `on ${pane.agents.join(", ")}`,
  ];
  const words = pane.state === "undealt" ? "no test in this run" : paneWords(pane);
  return (
    <button
      type="button"
      aria-pressed={pressed}
      onClick={() => {
        onChoose(pane.key);
      }}
      title={small ? [pane.label, ...where].filter(Boolean).join(", ") : undefined}
      className={`flex flex-col justify-start rounded border text-left transition-colors ${small ? "px-2 py-1.5" : "min-w-44 grow px-3 py-2.5"} ${pressed ? "border-accent bg-raised" : "border-line hover:bg-raised/60"}`}
    >
      <span className={`flex max-w-full items-center ${small ? "gap-2" : "gap-3"}`}>
        <Glass fill={fill} size={small ? 20 : 34} label={`${pane.label}: ${said(fill)}`} />
        <span className="min-w-0">
          <span className={`block truncate ${small ? "text-xs" : "font-medium"}`}>{name}</span>
          <span className={`block truncate text-xs ${inkOf[fill]}`}>{words}</span>
        </span>
      </span>
      {!small && <span className="mt-2 block text-xs text-soft">{where.filter(Boolean).join(" ")}</span>}
      {missing.length > 0 && !small && (
        <Hint text={missing.map((m) => `${m.feature}: ${m.reason}`).join("\n")}>
          <span className="mt-1 block text-xs text-flaky">
            not emulated: {missing.map((m) => m.feature).join(", ")}
          </span>
        </Hint>
      )}
    </button>
  );
});
