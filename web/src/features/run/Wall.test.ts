import { expect, test } from "vitest";
import type { Cause, Pane, Run } from "../../api/client";
import { columnsBy, grouped, ordered, sought } from "./Wall";
import { drawn } from "./WallGrid";

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

test("tests come in the order that is asked for, below the headings that are asked for", () => {
  const causes = [{ sentence: "Late", cells: [{ pane: 0, test: 1 }] }] as unknown as Cause[];
  const of = (group: string, order = "") =>
    grouped(ordered(run, run.tests, order), group, causes).map((l) =>
      "test" in l ? l.test.index : `${l.heading}, ${l.about}`,
    );
  expect(of("")).toEqual([0, 1]);
  expect(of("", "slow")).toEqual([0, 1]);
  expect(of("cause")).toEqual(["Late, 1 test", 1, "without a cause, 1 test", 0]);
  expect(of("directory")).toEqual(["./, 2 tests", 0, 1]);
  expect(of("tag")).toEqual(["berths, 1 test", 0, "smoke, 1 test", 1]);
});

test("combinations are grouped by an axis, in the order of its values", () => {
  const panes = ["x", "y", "x"].map((device, index) => ({ index, values: { device } })) as unknown as Pane[];
  const [sorted, begins] = columnsBy(panes, "device");
  expect(sorted.map((p) => p.index)).toEqual([0, 2, 1]);
  expect([...begins]).toEqual([2]);
  expect(columnsBy(panes, "")).toEqual([panes, new Set()]);
});

test("the last runs are drawn by shape", () => {
  expect(drawn("pyfals")).toBe("▁▄█▙┊·");
});
