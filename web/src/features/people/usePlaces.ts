import { useQuery } from "@tanstack/react-query";
import { get, type KnownSuite } from "../../api/client";

/** Projects, and the suites in them, each as “project” or “project suite”. */
export function usePlaces(): string[] {
  const suites = useQuery({ queryKey: ["suites"], queryFn: () => get<KnownSuite[]>("/suites") });
  return [...new Set((suites.data ?? []).flatMap((s) => [s.project, `${s.project} ${s.suite}`]))].sort();
}
