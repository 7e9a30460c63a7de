import { describe, expect, it } from "vitest";
import { inZone, ruleOf, type Plan } from "./rule";

const plan: Plan = {
  name: "n",
  preset: "p",
  often: "WEEKLY",
  days: ["FR", "MO"],
  time: "06:30",
  zone: "Europe/Berlin",
  until: "",
  count: "",
  own: "",
  change: "browser=firefox",
  missed: "run",
  overlap: "wait",
};

describe("ruleOf", () => {
  it("puts weekdays in the order of the week", () => {
    expect(ruleOf(plan)).toBe("FREQ=WEEKLY;BYDAY=MO,FR;BYHOUR=6;BYMINUTE=30;BYSECOND=0");
  });
  it("waits for a browser that changes", () => {
    expect(ruleOf({ ...plan, often: "change", until: "2027-05-31" })).toBe("when browser=firefox changes");
  });
  it("names no day when none is chosen", () => {
    expect(ruleOf({ ...plan, days: [] })).toBe("FREQ=WEEKLY;BYHOUR=6;BYMINUTE=30;BYSECOND=0");
  });
  it("ends at a date or after a count", () => {
    expect(ruleOf({ ...plan, often: "DAILY", until: "2027-05-31" })).toBe(
      "FREQ=DAILY;BYHOUR=6;BYMINUTE=30;BYSECOND=0;UNTIL=20270531",
    );
    expect(ruleOf({ ...plan, often: "MONTHLY", count: "3" })).toBe(
      "FREQ=MONTHLY;BYHOUR=6;BYMINUTE=30;BYSECOND=0;COUNT=3",
    );
  });
  it("takes a rule of one's own as it is", () => {
    expect(ruleOf({ ...plan, often: "own", own: " FREQ=MONTHLY;BYDAY=1MO ", count: "2" })).toBe(
      "FREQ=MONTHLY;BYDAY=1MO;COUNT=2",
    );
    expect(ruleOf({ ...plan, often: "own" })).toBe("");
  });
});

describe("inZone", () => {
  it("keeps the wall clock on both sides of a change of the clocks", () => {
    expect(inZone("2027-03-26T05:30:00Z", "Europe/Berlin")).toContain("06:30");
    expect(inZone("2027-03-29T04:30:00Z", "Europe/Berlin")).toContain("06:30");
  });
  it("shows a moment as it came when the zone is unknown", () => {
    expect(inZone("2027-03-26T05:30:00Z", "Mars/Base")).toBe("2027-03-26T05:30:00Z");
  });
});
