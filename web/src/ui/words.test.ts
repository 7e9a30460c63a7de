import { describe, expect, it } from "vitest";
import { ago, between, many, took } from "./words";

describe("words", () => {
  it("say times for people", () => {
    expect([340, 4100, 125_000].map(took)).toEqual(["340 ms", "4.1 s", "2 m 05 s"]);
  });
  it("say how long ago something was", () => {
    const now = Date.parse("2026-03-01T12:00:00Z");
    expect(
      [null, "2026-03-01T11:59:30Z", "2026-03-01T11:40:00Z", "2026-03-01T09:00:00Z"].map((t) => ago(t, now)),
    ).toEqual(["–", "just now", "20 min ago", "3 h ago"]);
  });
  it("measure from start to end, or to now", () => {
    expect(between("2026-03-01T12:00:00Z", "2026-03-01T12:00:05Z", 0)).toBe(5000);
    expect(between("2026-03-01T12:00:00Z", null, Date.parse("2026-03-01T12:00:02Z"))).toBe(2000);
    expect(between(null, null, 0)).toBeNull();
  });
  it("count things", () => {
    expect([many(1, "agent"), many(0, "agent"), many(2, "agent")]).toEqual([
      "1 agent",
      "0 agents",
      "2 agents",
    ]);
  });
});
