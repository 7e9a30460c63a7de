import { useId } from "react";

/** How a pane of glass is filled: a verdict, or what is going on while there is none. */
export type Fill =
  | "passed"
  | "failed"
  | "flaky"
  | "aside"
  | "lab-fault"
  | "skipped"
  | "unsupported"
  | "ended"
  | "running"
  | "queued";

export const fills: Fill[] = [
  "failed",
  "lab-fault",
  "flaky",
  "aside",
  "ended",
  "unsupported",
  "skipped",
  "passed",
];

export function fillOf(state: string, verdict: string): Fill {
  if (verdict !== "") return verdict as Fill;
  return state === "running" ? "running" : "queued";
}

/** A verdict, or a state, as people read it. */
export const said = (verdict: string): string =>
  verdict === "aside" ? "set aside" : verdict.replace("-", " ");

export const inkOf: Record<Fill, string> = {
  passed: "text-passed",
  failed: "text-failed",
  flaky: "text-flaky",
  aside: "text-flaky",
  "lab-fault": "text-lab-fault",
  ended: "text-soft",
  skipped: "text-idle",
  unsupported: "text-idle",
  running: "text-accent",
  queued: "text-idle",
};

function Inside({ fill }: { fill: Fill }) {
  switch (fill) {
    case "passed":
      return <path d="M2.5 2.5h11v11h-11z" fill="currentColor" />;
    case "failed":
      return (
        <path
          d="M2.5 2.5h11l-11 11zM13.5 2.5l-11 11"
          fill="currentColor"
          stroke="currentColor"
          strokeWidth="0.8"
        />
      );
    case "flaky":
      return <path d="M2.5 8h11v5.5h-11z" fill="currentColor" />;
    case "aside":
      return <path d="M2.5 13.5v-11l11 11z" fill="currentColor" opacity="0.8" />;
    case "running":
      return <Sweep />;
    case "ended":
      return <path d="M4.6 4.6h6.8v6.8h-6.8z" fill="none" stroke="currentColor" strokeWidth="1.2" />;
    case "unsupported":
      return <path d="M4 4l8 8M12 4l-8 8" stroke="currentColor" strokeWidth="1.2" />;
    case "skipped":
      return <circle cx="8" cy="8" r="1.4" fill="currentColor" />;
    default:
      return null;
  }
}

function Sweep() {
  const id = useId();
  return (
    <>
      <clipPath id={id}>
        <rect x="2" y="2" width="12" height="12" />
      </clipPath>
      <g clipPath={`url(#${id})`}>
        <path className="glass-sweep" d="M4 14L10 2h3L7 14z" fill="currentColor" opacity="0.85" />
      </g>
    </>
  );
}

/** A pane of glass: the verdict by shape as well as colour. */
export function Glass({ fill, size = 16, label }: { fill: Fill; size?: number; label?: string }) {
  return (
    <svg
      width={size}
      height={size}
      viewBox="0 0 16 16"
      className={`${inkOf[fill]} shrink-0 overflow-visible`}
      role="img"
      aria-label={label ?? said(fill)}
    >
      <rect
        x="1"
        y="1"
        width="14"
        height="14"
        rx="1.2"
        fill="none"
        stroke="currentColor"
        strokeWidth="1.1"
        strokeDasharray={fill === "lab-fault" ? "2.4 1.8" : undefined}
        opacity={fill === "skipped" ? 0.5 : 1}
      />
      <Inside fill={fill} />
    </svg>
  );
}

/** The same pane as one plain element, for walls of thousands: whoever holds it says what it means. */
export function GlassMark({ fill }: { fill: Fill }) {
  return <i className={`mark mark-${fill} ${inkOf[fill]}`} />;
}

/** Verdicts with their numbers, worst first. */
export function Counts({ counts }: { counts: Record<string, number> }) {
  const open = counts[""] ?? 0;
  const shown = [...fills].reverse().filter((f) => (counts[f] ?? 0) > 0);
  return (
    <span className="inline-flex flex-wrap gap-x-3 gap-y-1 whitespace-nowrap">
      {shown.map((f) => (
        <span key={f} className={`inline-flex items-center gap-1 ${inkOf[f]}`}>
          <Glass fill={f} size={12} label="" />
          {counts[f]} {said(f)}
        </span>
      ))}
      {open > 0 && (
        <span className="inline-flex items-center gap-1 text-soft">
          <Glass fill="queued" size={12} label="" />
          {open} open
        </span>
      )}
    </span>
  );
}

/** What the shapes mean. */
export function Legend({ present }: { present: Set<Fill> }) {
  const order: Fill[] = [
    "passed",
    "flaky",
    "failed",
    "aside",
    "lab-fault",
    "ended",
    "unsupported",
    "skipped",
    "running",
    "queued",
  ];
  return (
    <ul className="flex flex-wrap gap-4 text-soft text-xs" aria-label="What the panes mean">
      {order
        .filter((f) => present.has(f))
        .map((f) => (
          <li key={f} className="flex items-center gap-1.5">
            <Glass fill={f} size={13} label="" />
            {said(f)}
          </li>
        ))}
    </ul>
  );
}
