import { expect, test } from "vitest";
import type { Trends } from "../../api/client";
import { csvOf, labCSV } from "./csv";

test("a row for each day and value, and no formula", () => {
  const days = [{ day: "2026-11-27", counts: { passed: 3, failed: 1, aside: 2 } }];
  const of = (value: string) => ({ value, days, counts: {}, rate: 0, low: 0, high: 1 });
  const t = { by: "test", groups: [of("Hold a berth"), of('=HYPERLINK("x")')] } as unknown as Trends;
  expect(csvOf(t)).toBe(
    'day,test,passed,flaky,failed,aside,lab-fault\n2026-11-27,"Hold a berth",3,0,1,2,0\n2026-11-27,"\'=HYPERLINK(""x"")",3,0,1,2,0\n',
  );
});

test("what the lab did, a row for each day", () => {
  const day = {
    day: "2026-11-27",
    attempts: 3,
    faults: 1,
    busy_ms: 40,
    offered_ms: 90,
    waits: 2,
    wait_ms: 5,
    long_ms: 9,
  };
  expect(labCSV([day])).toBe(
    "day,attempts,lab_faults,busy_ms,offered_ms,waits,wait_ms,long_ms\n2026-11-27,3,1,40,90,2,5,9\n",
  );
});
