import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { get, type Run, type RunEvent } from "../../api/client";
import { listen } from "../../api/events";

/** Applies events to a run, in the order in which they came; returns a new run. */
export function applied(run: Run, events: RunEvent[]): Run {
  const next: Run = { ...run, panes: [...run.panes], cells: [...run.cells] };
  const fresh = new Set<number>(); // columns that are this run's own already
  for (const e of events) {
    if (e.run) Object.assign(next, e.run, { panes: next.panes }); // it comes without them
    for (const p of e.panes ?? []) next.panes[p.index] = p;
    for (const c of e.cells ?? []) {
      if (!fresh.has(c.pane)) next.cells[c.pane] = [...(next.cells[c.pane] ?? [])];
      fresh.add(c.pane);
      const column = next.cells[c.pane];
      if (column) column[c.test] = c;
    }
  }
  return next;
}

/** What comes within so many milliseconds is drawn at once. */
const gather = 300;

/** A run that stays current by itself until it has ended. */
export function useRun(number: string) {
  const queries = useQueryClient();
  const run = useQuery({ queryKey: ["run", number], queryFn: () => get<Run>(`/runs/${number}`) });
  const open = run.data !== undefined && run.data.state !== "ended";
  useEffect(() => {
    if (!open) return;
    const key = ["run", number];
    let came: RunEvent[] = [];
    let timer: ReturnType<typeof setTimeout> | undefined;
    const anew = () => {
      came = [];
      void queries.invalidateQueries({ queryKey: key });
    };
    const draw = () => {
      timer = undefined;
      const all = came;
      came = [];
      if (all.length > 0) queries.setQueryData<Run>(key, (old) => (old ? applied(old, all) : old));
    };
    const stop = listen(
      (e) => {
        if (e.run?.number !== Number(number)) return;
        if (e.whole) {
          anew();
          return;
        }
        came.push(e);
        timer ??= setTimeout(draw, gather);
      },
      anew,
      Number(number),
    );
    return () => {
      stop();
      clearTimeout(timer);
    };
  }, [number, open, queries]);
  return run;
}
