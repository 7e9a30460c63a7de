import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { get, type Run, type RunEvent } from "../../api/client";
import { listen } from "../../api/events";

/** Applies an event to a run; returns a new run. */
export function applied(run: Run, e: RunEvent): Run {
  const next: Run = { ...run };
  if (e.run) {
    Object.assign(next, e.run, { panes: run.panes }); // it comes without them
  }
  const panes = new Map((e.panes ?? []).map((p) => [p.index, p]));
  const cells = new Map((e.cells ?? []).map((c) => [`${c.pane}/${c.test}`, c]));
  next.panes = run.panes.map((p) => panes.get(p.index) ?? p);
  next.cells = run.cells.map((column, i) =>
    panes.has(i) ? column.map((c, j) => cells.get(`${i}/${j}`) ?? c) : column,
  );
  return next;
}

/** A run that stays current by itself until it has ended. */
export function useRun(number: string) {
  const queries = useQueryClient();
  const run = useQuery({ queryKey: ["run", number], queryFn: () => get<Run>(`/runs/${number}`) });
  const open = run.data !== undefined && run.data.state !== "ended";
  useEffect(() => {
    if (!open) return;
    return listen(
      (e) => {
        if (e.run?.number !== Number(number)) return;
        if (e.whole) void queries.invalidateQueries({ queryKey: ["run", number] });
        else queries.setQueryData<Run>(["run", number], (old) => (old ? applied(old, e) : old));
      },
      () => void queries.invalidateQueries({ queryKey: ["run", number] }),
      Number(number),
    );
  }, [number, open, queries]);
  return run;
}
