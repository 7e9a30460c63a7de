import { useQuery } from "@tanstack/react-query";
import { type ReactNode } from "react";
import { Link } from "react-router";
import { get, type Overview, type OverviewSuite } from "../../api/client";
import { useFresh } from "../../api/useFresh";
import { Counts, fillOf, Glass, GlassMark, inkOf, said } from "../../ui/Glass";
import { Empty, Sheet, Trouble, Waiting } from "../../ui/parts";
import { useNow } from "../../ui/useNow";
import { useTitle } from "../../ui/useTitle";
import { ago, many, took } from "../../ui/words";
import { News } from "../run/Causes";

/** What is going on? */
export function OverviewPage() {
  useTitle("Overview");
  const found = useQuery({
    queryKey: ["overview"],
    queryFn: () => get<Overview>("/overview"),
    refetchInterval: 15_000,
  });
  useFresh("overview", ["run", "agents"]);
  const now = useNow(true);
  if (found.isPending) return <Waiting />;
  if (found.error) return <Trouble error={found.error} again={() => void found.refetch()} />;
  const o = found.data;
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4 min-[1100px]:grid-cols-[minmax(0,1fr)_22rem]">
      <Sheet title="How suites stand">
        {o.suites.length === 0 ? (
          <Empty title="No suite has run within two weeks">
            Start one in a project&apos;s directory with <code className="font-mono text-ink">pane run</code>,
            or put one together under{" "}
            <Link className="text-accent hover:underline" to="/start">
              New run
            </Link>
            .
          </Empty>
        ) : (
          <ul aria-label="Suites">
            {o.suites.map((s) => (
              <SuiteLine key={s.run.number} suite={s} now={now} />
            ))}
          </ul>
        )}
      </Sheet>
      <div className="grid content-start gap-4">
        <Going o={o} />
        <Health o={o} />
        <Shaky o={o} />
        <Next o={o} />
      </div>
    </div>
  );
}

function SuiteLine({ suite: { run, causes, more, fresh }, now }: { suite: OverviewSuite; now: number }) {
  const fill = fillOf(run.state, run.verdict);
  return (
    <li className="grid grid-cols-[auto_1fr] gap-x-3 border-t border-line px-4 py-3 first:border-t-0">
      <Glass fill={fill} size={24} />
      <div className="min-w-0">
        <p className="flex flex-wrap items-baseline gap-x-3">
          <Link className="font-medium hover:underline" to={`/runs/${run.number}`}>
            {run.project} {run.suite}
          </Link>
          <span className={inkOf[fill]}>{said(run.verdict)}</span>
          {fresh > 0 && <span className="text-failed">{many(fresh, "new cause")} within a day</span>}
          <span className="ml-auto text-sm text-soft">
            #{run.number}, {ago(run.ended_at, now)}
          </span>
        </p>
        <p className="text-sm">
          <Counts counts={run.counts} />
        </p>
        <ul className="mt-1.5 grid gap-1">
          {causes.map((c) => (
            <li key={c.id} className="text-sm break-words">
              <span className={c.kind === "lab" ? "text-lab-fault" : "text-soft"}>{c.kind}</span>{" "}
              <Link className="hover:underline" to={`/runs/${run.number}?cause=${c.id}`}>
                {c.sentence}
              </Link>{" "}
              <News cause={c} />
            </li>
          ))}
        </ul>
        {more > 0 && (
          <Link className="text-sm text-accent hover:underline" to={`/runs/${run.number}`}>
            and {many(more, "more cause")}
          </Link>
        )}
      </div>
    </li>
  );
}

function Side({ title, to, children }: { title: string; to: string; children: ReactNode }) {
  return (
    <Sheet
      title={title}
      aside={
        <Link className="text-sm text-accent hover:underline" to={to}>
          More
        </Link>
      }
    >
      <div className="grid gap-1.5 px-4 py-2.5 text-sm">{children}</div>
    </Sheet>
  );
}

/** What runs, and what waits and why. */
function Going({ o }: { o: Overview }) {
  return (
    <Side title="Running and waiting" to="/runs?state=open">
      {o.running.length + o.waiting.length === 0 && <p className="text-soft">Nothing runs.</p>}
      {o.running.map((r) => (
        <p key={r.number} className="flex flex-wrap items-center gap-2">
          <GlassMark fill="running" />
          <Link className="text-accent hover:underline" to={`/runs/${r.number}`}>
            #{r.number} {r.suite}
          </Link>
          <Counts counts={r.counts} />
        </p>
      ))}
      {o.waiting.map((r) => (
        <p key={r.number}>
          <GlassMark fill="queued" />{" "}
          <Link className="text-accent hover:underline" to={`/runs/${r.number}`}>
            #{r.number} {r.suite}
          </Link>
          <span className="block text-soft">{r.because}</span>
        </p>
      ))}
    </Side>
  );
}

function Health({ o }: { o: Overview }) {
  const { lab } = o;
  return (
    <Side title="The lab" to="/fleet">
      <p>
        {many(lab.online, "agent")} online, {lab.used} of {many(lab.slots, "slot")} taken
      </p>
      <span
        className="h-1.5 overflow-hidden rounded-full bg-raised"
        role="img"
        aria-label={`${lab.used} of ${lab.slots} slots taken`}
      >
        <span
          className="block h-full bg-accent"
          style={{ width: `${lab.slots ? (100 * lab.used) / lab.slots : 0}%` }}
        />
      </span>
      {lab.away.map((a) => (
        <p key={a.agent} className="text-flaky">
          {a.agent} takes no work: {a.because}
        </p>
      ))}
      {lab.faults.map((f) => (
        <p key={f.agent} className="text-lab-fault">
          {many(f.faults, "lab fault")} within a day{" "}
          {f.agent ? `on ${f.agent}` : "before an agent was reached"}
        </p>
      ))}
      {lab.faults.length === 0 && <p className="text-soft">No lab fault within a day.</p>}
      {lab.full && <p className="text-failed">{lab.full}</p>}
    </Side>
  );
}

function Shaky({ o }: { o: Overview }) {
  return (
    <Side title="Unsteady" to="/unsteady">
      {o.unsteady.length === 0 && <p className="text-soft">No test is unsteady.</p>}
      {o.unsteady.map((t) => {
        const p = t.in[0];
        return (
          p && (
            <p key={`${t.project} ${t.suite} ${t.test}`}>
              <Link className="hover:underline" to={`/runs/${p.last_run}/tests/${p.place}?pane=${p.pane}`}>
                {t.test}
              </Link>
              <span className="block text-soft">
                off in {p.off} of {p.trials} on {p.label}, {took(t.waste_ms)} wasted
              </span>
            </p>
          )
        );
      })}
    </Side>
  );
}

function Next({ o }: { o: Overview }) {
  return (
    <Side title="Next by itself" to="/schedules">
      {o.next.length === 0 && <p className="text-soft">Nothing is on schedule.</p>}
      {o.next.map((n) => (
        <p key={`${n.schedule} ${n.at}`} className="flex justify-between gap-2">
          <span className="truncate">{n.preset}</span>
          <time className="text-soft" dateTime={n.at}>
            {new Date(n.at).toLocaleString(undefined, {
              weekday: "short",
              hour: "2-digit",
              minute: "2-digit",
            })}
          </time>
        </p>
      ))}
    </Side>
  );
}
