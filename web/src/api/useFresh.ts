import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import type { RunEvent } from "./client";
import { listen } from "./events";

/** Fetches a list anew when events of these types come, a little later, so that many make one. */
export function useFresh(list: string, types: RunEvent["type"][]) {
  const queries = useQueryClient();
  const wanted = types.join(" ");
  useEffect(() => {
    const refresh = () => void queries.invalidateQueries({ queryKey: [list] });
    let waiting: ReturnType<typeof setTimeout> | undefined;
    const stop = listen((e) => {
      if (wanted.split(" ").includes(e.type === "wall" ? "run" : e.type))
        waiting ??= setTimeout(() => {
          waiting = undefined;
          refresh();
        }, 400);
    }, refresh);
    return () => {
      stop();
      clearTimeout(waiting);
    };
  }, [queries, list, wanted]);
}
