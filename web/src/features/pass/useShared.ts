import { useQuery } from "@tanstack/react-query";
import { get, type Who } from "../../api/client";

/** What somebody with a share link is shown, who may look and do nothing; nothing for everybody else. */
export function useShared(): Who["share"] {
  const me = useQuery({ queryKey: ["me"], queryFn: () => get<Who>("/me"), staleTime: Infinity });
  return me.data?.share ?? null;
}
