import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { get, type Slow, type SlowTest } from "../../api/client";
import { Choice, Empty, Sheet, Trouble, Waiting } from "../../ui/parts";
import { Tabs } from "../../ui/Tabs";
import { Find } from "../../ui/Find";
import { useFilters } from "../../ui/useFilters";
import { useTitle } from "../../ui/useTitle";
import { many, took } from "../../ui/words";
import { trendPages } from "./pages";

/** What takes long, and since when? */
export function SlowPage() {
  useTitle("What is slow");
  const filters = useFilters();
  const runs = filters.value("runs") || "30";
  const found = useQuery({
    queryKey: ["slow", runs],
    queryFn: () => get<Slow[]>(`/slow?runs=${encodeURIComponent(runs)}`),
  });
  const text = filters.value("text").toLowerCase();
  const has = (x: { test: string }) => x.test.toLowerCase().includes(text);
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <div className="flex flex-wrap items-center gap-3">
        <Tabs label="Trends" pages={trendPages} />
        <div className="ml-auto flex gap-2">
          <Find filters={filters} label="Find test" size={20} />
          <Choice
            label="Runs looked at"
            value={runs}
            onChange={(v) => {
              filters.set("runs", v);
            }}
            options={["10", "30", "100"].map((n) => [n, `last ${n} runs of each suite`])}
          />
        </div>
      </div>
      {found.isPending ? (
        <Waiting />
      ) : found.error ? (
        <Trouble error={found.error} again={() => void found.refetch()} />
      ) : found.data.length === 0 ? (
        <Sheet>
          <Empty title="Nothing has run yet">
            Start a suite with <code className="font-mono text-ink">pane run</code>: what its tests take is
            kept.
          </Empty>
        </Sheet>
      ) : (
        found.data.map((s) => (
          <Sheet
            key={`${s.project} ${s.suite}`}
            title={
              <>
                {s.project} {s.suite} <span className="font-normal text-soft">{many(s.runs, "run")}</span>
              </>
            }
          >
            <div className="grid gap-6 px-4 py-3 min-[1100px]:grid-cols-[minmax(0,1fr)_20rem]">
              <div className="grid content-start gap-3">
                {s.turns.filter(has).map((x) => (
                  <TurnLine key={x.test} test={x} />
                ))}
                {s.turns.length === 0 && (
                  <p className="text-soft">No test became slower or faster for certain.</p>
                )}
                {s.over.filter(has).map((x) => (
                  <p key={`${x.test} ${x.title}`} className="min-w-0">
                    <span className="text-flaky">over its limit</span>{" "}
                    <Link
                      className="font-medium hover:underline"
                      to={`/runs/${x.run}/tests/${x.place}?pane=${x.pane}`}
                    >
                      {x.title}
                    </Link>
                    <span className="block text-sm text-soft">
                      {x.test}: {many(x.times, "time")} over {took(x.limit_ms)}, {took(x.worst_ms)} on {x.on}
                    </span>
                  </p>
                ))}
                {s.lags.filter(has).map((x) => (
                  <p key={`${x.test} ${x.step} ${x.nth}`} className="min-w-0">
                    <span className="text-flaky">lags on {x.panes.slice(0, 4).join(", ")}</span>
                    {x.panes.length > 4 && (
                      <span className="text-flaky"> and {x.panes.length - 4} more</span>
                    )}{" "}
                    <Link
                      className="font-medium hover:underline"
                      to={`/runs/${x.run}/tests/${x.place}?pane=${x.pane}`}
                    >
                      {x.step}
                    </Link>
                    <span className="block text-sm text-soft">
                      {x.test}: {took(x.ms)}, elsewhere {took(x.elsewhere_ms)}
                    </span>
                  </p>
                ))}
                <h3 className="text-xs text-soft">What takes longest</h3>
                {s.longest.filter(has).map((x) => (
                  <div key={x.test} className="grid grid-cols-[minmax(0,1fr)_10rem_5rem] items-center gap-3">
                    <span className="truncate">{x.test}</span>
                    <Series of={x} />
                    <span className="text-right text-sm tabular-nums">{took(x.ms)}</span>
                  </div>
                ))}
              </div>
              <div className="grid content-start gap-1.5">
                <h3 className="text-xs text-soft">Combinations against the median</h3>
                {s.paces.slice(0, 12).map((p) => (
                  <div
                    key={p.pane}
                    className="grid grid-cols-[minmax(0,1fr)_6rem_3rem] items-center gap-2 text-sm"
                  >
                    <span className="truncate">{p.pane}</span>
                    <span className="h-1.5 rounded-full bg-raised" aria-hidden="true">
                      <span
                        className={`block h-full rounded-full ${p.ratio > 1.2 ? "bg-flaky" : "bg-accent"}`}
                        style={{ width: `${Math.min(100, 40 * p.ratio)}%` }}
                      />
                    </span>
                    <span className="text-right tabular-nums">×{p.ratio.toFixed(2)}</span>
                  </div>
                ))}
              </div>
            </div>
          </Sheet>
        ))
      )}
    </div>
  );
}

function TurnLine({ test: x }: { test: SlowTest }) {
  const turn = x.turn;
  if (!turn) return null;
  const slower = turn.ratio > 1;
  return (
    <div className="grid grid-cols-[minmax(0,1fr)_10rem] items-center gap-3">
      <p className="min-w-0">
        <span className={slower ? "text-flaky" : "text-passed"}>{slower ? "slower" : "faster"}</span>{" "}
        <span className="font-medium">{x.test}</span>
        <span className="block text-sm text-soft">
          {took(turn.was_ms)} → {took(turn.is_ms)} since{" "}
          <Link className="text-accent hover:underline" to={`/runs/${turn.run}`}>
            #{turn.run}
          </Link>
        </span>
      </p>
      <Series of={x} />
    </div>
  );
}

/** A test's time, run by run; the run in which it changed is marked. */
function Series({ of: x }: { of: SlowTest }) {
  const most = Math.max(...x.series.map((p) => p.ms), 1);
  return (
    <span
      className="flex h-6 items-end gap-px"
      role="img"
      aria-label={`${x.test}: ${x.series.map((p) => took(p.ms)).join(", ")}`}
    >
      {x.series.map((p) => (
        <span
          key={p.run}
          title={`#${p.run}: ${took(p.ms)}`}
          className={`max-w-2 min-w-px grow rounded-t-sm ${x.turn && p.run >= x.turn.run ? "bg-flaky" : "bg-soft"}`}
          style={{ height: `${(100 * p.ms) / most}%` }}
        />
      ))}
    </span>
  );
}
