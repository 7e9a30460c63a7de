import type { Pane } from "../../api/client";
import { said } from "../../ui/Glass";

/** How a pane went, or how far it is: "14 passed", "2 failed of 14", "3 running, 5 of 14 done". */
export function paneWords(pane: Pick<Pane, "state" | "verdict" | "counts" | "running">): string {
  const all = Object.values(pane.counts).reduce((a, b) => a + b, 0);
  const open = pane.counts[""] ?? 0;
  if (pane.state === "ended" && pane.verdict) {
    const n = pane.counts[pane.verdict] ?? 0;
    return n === all ? `${n} ${said(pane.verdict)}` : `${n} ${said(pane.verdict)} of ${all}`;
  }
  if (pane.running > 0) return `${pane.running} running, ${all - open} of ${all} done`;
  return open === all ? `${all} queued` : `${all - open} of ${all} done`;
}
