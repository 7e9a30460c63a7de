import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { listen, type RunEvent } from "./client";

/** Fetches a list anew when events of these types come, a little later, so that many make one. */
export function useFresh(list: string, types: RunEvent["type"][]) {
  const queries = useQueryClient();
  const wanted = types.join(" ");
  useEffect(() => {
    const refresh = () => void queries.invalidateQueries({ queryKey: [list] });
    let waiting: ReturnType<typeof setTimeout> | undefined;
    const stop = listen(
      "/events",
      (e) => {
        if (wanted.split(" ").includes(e.type))
          waiting ??= setTimeout(() => {
            waiting = undefined;
            refresh();
          }, 400);
      },
      refresh,
    );
    return () => {
      stop();
      clearTimeout(waiting);
    };
  }, [queries, list, wanted]);
}
