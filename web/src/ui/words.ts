/** A time for people: 340 ms, 4.1 s, 2 m 05 s. */
export function took(ms: number): string {
  if (ms < 1000) return `${Math.round(ms)} ms`;
  if (ms < 60_000) return `${(ms / 1000).toFixed(1)} s`;
  return `${Math.floor(ms / 60_000)} m ${String(Math.floor((ms % 60_000) / 1000)).padStart(2, "0")} s`;
}

/** How long ago something was, roughly. */
export function ago(iso: string | null | undefined, now: number): string {
  if (!iso) return "–";
  const s = Math.max(0, (now - Date.parse(iso)) / 1000);
  if (s < 60) return "just now";
  if (s < 3600) return `${Math.floor(s / 60)} min ago`;
  if (s < 86_400) return `${Math.floor(s / 3600)} h ago`;
  return new Date(iso).toLocaleDateString();
}

/** From start to end, or to now while something runs. */
export function between(
  start: string | null | undefined,
  end: string | null | undefined,
  now: number,
): number | null {
  return start ? (end ? Date.parse(end) : now) - Date.parse(start) : null;
}

/** A number of things: 1 agent, 2 agents. */
export function many(n: number, thing: string): string {
  return `${n} ${thing}${n === 1 ? "" : "s"}`;
}

/** Bytes for people. */
export function bytes(n: number): string {
  for (const [unit, of] of [
    ["GB", 1e9],
    ["MB", 1e6],
    ["kB", 1e3],
  ] as [string, number][])
    if (n >= of) return `${(n / of).toFixed(1)} ${unit}`;
  return `${n} B`;
}

/** A probability for people: never all or nothing unless it is. */
export function sure(p: number): string {
  if (p > 0.999 && p < 1) return "more than 99.9 %";
  if (p > 0 && p < 0.001) return "less than 0.1 %";
  return `${(100 * p).toFixed(1)} %`;
}

/** A share of one. */
export const percent = (p: number) => `${(100 * p).toFixed(p > 0 && p < 0.1 ? 1 : 0)} %`;
