import { useQuery } from "@tanstack/react-query";
import { get, type Who } from "../../api/client";

/** Whether somebody looks with a share link, who may look and do nothing. */
export function useShared(): boolean {
  const me = useQuery({ queryKey: ["me"], queryFn: () => get<Who>("/me"), staleTime: Infinity });
  return Boolean(me.data?.share);
}
