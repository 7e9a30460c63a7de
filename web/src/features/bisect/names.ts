import type { Bisect } from "../../api/client";

/** A candidate as people read it. */
export function shortName(b: Bisect, candidate: string): string {
  return b.axis === "bundle" ? candidate.slice(0, 12) : candidate;
}

/** The pages of what ran. */
export const runPages: [string, string][] = [
  ["/runs", "Runs"],
  ["/bisects", "What broke it"],
  ["/defects", "Defects"],
];
