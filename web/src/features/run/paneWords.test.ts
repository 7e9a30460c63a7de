import { describe, expect, it } from "vitest";
import { paneWords } from "./paneWords";

describe("a pane in words", () => {
  it("says how many of how many", () => {
    const ended = { state: "ended", running: 0 };
    expect(paneWords({ ...ended, verdict: "failed", counts: { passed: 12, failed: 2 } })).toBe(
      "2 failed of 14",
    );
    expect(paneWords({ ...ended, verdict: "passed", counts: { passed: 14 } })).toBe("14 passed");
    expect(paneWords({ ...ended, verdict: "lab-fault", counts: { "lab-fault": 3, passed: 1 } })).toBe(
      "3 lab fault of 4",
    );
  });
  it("says how far it is", () => {
    expect(paneWords({ state: "queued", verdict: "", running: 0, counts: { "": 14 } })).toBe("14 queued");
    expect(paneWords({ state: "running", verdict: "", running: 2, counts: { "": 9, passed: 5 } })).toBe(
      "2 running, 5 of 14 done",
    );
    expect(paneWords({ state: "running", verdict: "", running: 0, counts: { "": 9, failed: 5 } })).toBe(
      "5 of 14 done",
    );
  });
});
