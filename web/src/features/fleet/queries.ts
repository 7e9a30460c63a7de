import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { get, type Agent, type Why } from "../../api/client";
import { listen } from "../../api/events";

/** The fleet, kept fresh by events and a slow pulse for what events do not tell. */
export function useAgents() {
  const queries = useQueryClient();
  useEffect(() => {
    const refresh = () => void queries.invalidateQueries({ queryKey: ["agents"] });
    return listen((e) => {
      if (e.type === "agents" || e.type === "run") refresh();
    }, refresh);
  }, [queries]);
  return useQuery({ queryKey: ["agents"], queryFn: () => get<Agent[]>("/agents"), refetchInterval: 5000 });
}

/** Who can do work with some needs, in words such as browser=firefox os=linux. */
export function useWhy(needs: string, project = "") {
  const q = new URLSearchParams({ needs });
  if (project) q.set("project", project);
  return useQuery({
    queryKey: ["why", needs, project],
    queryFn: () => get<Why>(`/why?${q}`),
    placeholderData: (old) => old,
  });
}
