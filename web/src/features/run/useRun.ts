import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { get, listen, type Run, type RunEvent } from "../../api/client";

/** Applies an event to a run; returns a new run. */
export function applied(run: Run, e: RunEvent): Run {
  const next: Run = { ...run };
  if (e.run) {
    Object.assign(next, e.run, { panes: run.panes }); // its panes are glances; whole ones come with their cells
  }
  const { pane, cell, test } = e;
  if (pane && cell) {
    next.panes = run.panes.map((p) => (p.index === pane.index ? pane : p));
    next.cells = run.cells.map((column, i) => (i === pane.index ? column.map((c, j) => (j === (test ?? 0) ? cell : c)) : column));
  }
  return next;
}

/** A run that stays current by itself until it has ended. */
export function useRun(number: string) {
  const queries = useQueryClient();
  const run = useQuery({ queryKey: ["run", number], queryFn: () => get<Run>(`/runs/${number}`) });
  const open = run.data !== undefined && run.data.state !== "ended";
  useEffect(() => {
    if (!open) return;
    return listen(`/runs/${number}/events`,
      (e) => queries.setQueryData<Run>(["run", number], (old) => (old ? applied(old, e) : old)),
      () => void queries.invalidateQueries({ queryKey: ["run", number] }));
  }, [number, open, queries]);
  return run;
}
