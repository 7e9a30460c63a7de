import { expect, test } from "vitest";
import type { Run, RunEvent } from "../../api/client";
import { applied } from "./useRun";

const run = {
  state: "running",
  panes: [
    { index: 0, label: "a" },
    { index: 1, label: "b" },
  ],
  cells: [
    [{ state: "queued" }, { state: "queued" }],
    [{ state: "queued" }, { state: "queued" }],
  ],
} as unknown as Run;
const event = (e: object) => e as unknown as RunEvent;

test("events change what they speak of, the last one wins, and nothing else is another object", () => {
  const before = structuredClone(run);
  const next = applied(run, [
    event({
      run: { state: "running" },
      panes: [{ index: 1, label: "c" }],
      cells: [{ pane: 1, test: 0, state: "running" }],
    }),
    event({ run: { state: "ended", panes: [] }, cells: [{ pane: 1, test: 0, state: "ended" }] }),
  ]);
  expect(next.state).toBe("ended");
  expect(next.panes).toEqual([run.panes[0], { index: 1, label: "c" }]);
  expect(next.cells[1]).toEqual([{ pane: 1, test: 0, state: "ended" }, { state: "queued" }]);
  expect(next.cells[0]).toBe(run.cells[0]);
  expect(run).toEqual(before);
});
