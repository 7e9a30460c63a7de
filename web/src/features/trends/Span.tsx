import { percent } from "../../ui/words";

const colors = {
  failed: ["bg-failed/40", "bg-failed"],
  flaky: ["bg-flaky/40", "bg-flaky"],
  "lab-fault": ["bg-lab-fault/40", "bg-lab-fault"],
} as const;

/** A rate with the interval in which it is, drawn against the highest of its list. */
export function Span({
  low,
  rate,
  high,
  most = 1,
  color,
}: {
  low: number;
  rate: number;
  high: number;
  most?: number;
  color: keyof typeof colors;
}) {
  const [wide, narrow] = colors[color];
  return (
    <span className="flex items-center gap-2 tabular-nums">
      <span className="w-12 text-right">{percent(rate)}</span>
      <span className="relative h-2 w-40 rounded bg-raised" aria-hidden="true">
        <span
          className={`absolute h-2 rounded ${wide}`}
          style={{ left: `${(100 * low) / most}%`, width: `${(100 * (high - low)) / most}%` }}
        />
        <span className={`absolute h-2 w-0.5 ${narrow}`} style={{ left: `${(100 * rate) / most}%` }} />
      </span>
      <span className="text-xs whitespace-nowrap text-soft">
        {percent(low)} to {percent(high)}
      </span>
    </span>
  );
}
