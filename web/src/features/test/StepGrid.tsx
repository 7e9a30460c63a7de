import { clsx } from "clsx";
import type { PaneAttempts, StepResult } from "../../api/client";
import { type Fill, fillOf, Glass, said } from "../../ui/Glass";
import { Sheet } from "../../ui/parts";
import { took } from "../../ui/words";
import { shownAttempt } from "./TestPage";

const stepFill: Record<string, Fill> = {
  passed: "passed",
  failed: "failed",
  "lab-fault": "lab-fault",
  skipped: "skipped",
  unrun: "queued",
};

/** Steps down, combinations across: the same step beside itself everywhere. */
export function StepGrid({
  results,
  chosen,
  attempt,
  step,
  onChoose,
}: {
  results: PaneAttempts[];
  chosen: number;
  attempt: number | null;
  step: number;
  onChoose: (pane: number, step: number) => void;
}) {
  const shown = results.map((r) => ({
    ...r,
    attempt: shownAttempt(r, r.pane.index === chosen ? attempt : null),
  }));
  const steps = shown
    .map((r) => r.attempt?.detail.steps ?? [])
    .reduce<StepResult[]>((a, b) => (b.length > a.length ? b : a), []);
  return (
    <Sheet>
      <div className="overflow-x-auto">
        <table className="w-full text-left">
          <thead>
            <tr className="align-bottom text-xs text-soft">
              <th className="sticky left-0 bg-sheet px-4 py-2 font-normal">Step</th>
              {shown.map((r) => (
                <th
                  key={r.pane.key}
                  className={clsx("px-2 py-1.5 font-normal", r.pane.index === chosen && "bg-raised text-ink")}
                >
                  <button
                    type="button"
                    className="grid gap-1 text-left"
                    onClick={() => {
                      onChoose(r.pane.index, step);
                    }}
                  >
                    <span>
                      {r.pane.label.split(" · ").map((part) => (
                        <span key={part} className="block">
                          {part}
                        </span>
                      ))}
                    </span>
                    <span className="flex items-center gap-1.5">
                      <Glass fill={fillOf(r.cell.state, r.cell.verdict)} size={14} />
                      {said(r.cell.verdict || r.cell.state)}
                    </span>
                  </button>
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {steps.map((s, i) => (
              <tr key={s.index} className={clsx("border-t border-line", i === step && "bg-raised")}>
                <td
                  className={clsx(
                    "sticky left-0 min-w-64 px-4 py-1.5",
                    i === step ? "bg-raised" : "bg-sheet",
                  )}
                >
                  <button
                    type="button"
                    className="text-left hover:underline"
                    onClick={() => {
                      onChoose(chosen, i);
                    }}
                  >
                    <span className="mr-2 inline-block w-5 text-right text-soft">{i + 1}</span>
                    {s.title}
                  </button>
                </td>
                {shown.map((r) => {
                  const own = r.attempt?.detail.steps[i];
                  return (
                    <td key={r.pane.key} className={clsx("px-2", r.pane.index === chosen && "bg-raised")}>
                      {own && (
                        <button
                          type="button"
                          aria-label={`${r.pane.label}, step ${i + 1}: ${own.state}`}
                          onClick={() => {
                            onChoose(r.pane.index, i);
                          }}
                          className="flex items-center gap-1.5 py-1"
                        >
                          <Glass fill={stepFill[own.state] ?? "queued"} size={14} label={own.state} />
                          <span className="text-xs whitespace-nowrap text-soft">
                            {own.state === "unrun"
                              ? ""
                              : own.state === "skipped"
                                ? "not needed"
                                : took(own.took_ms)}
                          </span>
                        </button>
                      )}
                    </td>
                  );
                })}
              </tr>
            ))}
          </tbody>
        </table>
        {steps.length === 0 && (
          <p className="px-4 py-6 text-center text-soft">
            {results.some((r) => r.attempts.some((a) => a.verdict))
              ? "What ran this test tells of no steps; its sessions, files and log are below."
              : "No attempt has come as far as a step yet."}
          </p>
        )}
      </div>
    </Sheet>
  );
}
