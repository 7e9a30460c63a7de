import type { LabDay, Trends } from "../../api/client";

/** The verdicts that a trend shows. */
export const shown = ["passed", "flaky", "failed", "aside", "lab-fault"];

/** Every count, a row for each day and value; what a spreadsheet would take for a formula is text. */
export function csvOf(t: Trends): string {
  const field = (s: string) => `"${(/^[=+\-@\t\r]/.test(s) ? "'" : "") + s.replaceAll('"', '""')}"`;
  const rows = t.groups.flatMap((g) =>
    g.days.map((d) => [d.day, field(g.value), ...shown.map((v) => d.counts[v] ?? 0)].join(",")),
  );
  return [["day", t.by, ...shown].join(","), ...rows].join("\n") + "\n";
}

/** What the lab did, a row for each day. */
export function labCSV(days: LabDay[]): string {
  const rows = days.map((d) =>
    [d.day, d.attempts, d.faults, d.busy_ms, d.offered_ms, d.waits, d.wait_ms, d.long_ms].join(","),
  );
  return ["day,attempts,lab_faults,busy_ms,offered_ms,waits,wait_ms,long_ms", ...rows].join("\n") + "\n";
}

/** Gives a file to whoever looks at the page. */
export function save(name: string, text: string) {
  const a = document.createElement("a");
  a.href = URL.createObjectURL(new Blob([text], { type: "text/csv" }));
  a.download = name;
  a.click();
  URL.revokeObjectURL(a.href);
}
