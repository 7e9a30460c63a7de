import { expect, test } from "vitest";
import type { Cause, Run } from "../../api/client";
import { ordered, sought } from "./Wall";

const cell = (state: string, verdict: string) => ({ state, verdict });
const run = {
  panes: [
    { index: 0, key: "a" },
    { index: 1, key: "b" },
  ],
  tests: [
    { index: 0, name: "Hold a berth", file: "berth.pane.yaml", tags: ["berths"] },
    { index: 1, name: "Read the tides", file: "tides.pane.yaml", tags: ["smoke"] },
  ],
  cells: [
    [cell("ended", "passed"), cell("ended", "failed")],
    [cell("ended", "flaky"), cell("undealt", "")],
  ],
} as unknown as Run;
const names = (only: string | null, text: string, show: string) =>
  sought(run, only, text, show).map((t) => t.index);

test("tests are found by name, file and tag, and by what they came to in the panes that are shown", () => {
  expect(names(null, "", "")).toEqual([0, 1]);
  expect(names(null, "BERTH", "")).toEqual([0]);
  expect(names(null, "smoke", "")).toEqual([1]);
  expect(names(null, "", "trouble")).toEqual([0, 1]);
  expect(names("b", "", "trouble")).toEqual([0]);
  expect(names("a", "", "passed")).toEqual([0]);
  expect(names(null, "", "queued")).toEqual([]);
  expect(names(null, "", "differs")).toEqual([0]);
  expect(names("a", "", "differs")).toEqual([]);
});

test("tests come in the order that is asked for", () => {
  const causes = [{ cells: [{ pane: 0, test: 1 }] }] as unknown as Cause[];
  const of = (order: string) => ordered(run, run.tests, order, causes).map((t) => t.index);
  expect(of("")).toEqual([0, 1]);
  expect(of("cause")).toEqual([1, 0]);
  expect(of("file")).toEqual([0, 1]);
  expect(of("tag")).toEqual([0, 1]);
  expect(of("slow")).toEqual([0, 1]);
});
