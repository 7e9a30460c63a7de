import type { Trends } from "../../api/client";

/** The verdicts that a trend shows. */
export const shown = ["passed", "flaky", "failed", "lab-fault"];

/** Every count, a row for each day and value; what a spreadsheet would take for a formula is text. */
export function csvOf(t: Trends): string {
  const field = (s: string) => `"${(/^[=+\-@\t\r]/.test(s) ? "'" : "") + s.replaceAll('"', '""')}"`;
  const rows = t.groups.flatMap((g) =>
    g.days.map((d) => [d.day, field(g.value), ...shown.map((v) => d.counts[v] ?? 0)].join(",")),
  );
  return [["day", t.by, ...shown].join(","), ...rows].join("\n") + "\n";
}
