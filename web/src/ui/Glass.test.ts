import { describe, expect, it } from "vitest";
import { fillOf } from "./Glass";

describe("fillOf", () => {
  it("shows a verdict before a state", () => {
    expect(fillOf("running", "failed")).toBe("failed");
    expect(fillOf("running", "")).toBe("running");
    expect(fillOf("queued", "")).toBe("queued");
  });
});
