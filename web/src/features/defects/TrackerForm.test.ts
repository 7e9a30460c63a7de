import { describe, expect, it } from "vitest";
import { drawn } from "./TrackerForm";

describe("a tracker's form", () => {
  it("is drawn without its pictures, long texts and lists in boxes of several lines", () => {
    const { schema, ui } = drawn(
      {
        type: "object",
        properties: {
          title: { type: "string", maxLength: 100 },
          details: { type: "string" },
          step: { type: "string" },
          report: { type: "string", maxLength: 20000 },
          seen: { type: "string", format: "date-time", maxLength: 4000 },
          severity: { type: "string", enum: ["high", "low"] },
          where: { type: "array", items: { type: "string" } },
          tags: { type: "array", items: { type: "string", enum: ["a", "b"] } },
          pictures: { type: "array", items: { type: "string", contentEncoding: "base64" } },
          odd: true,
        },
      },
      { details: "one\ntwo", step: "tap" },
    );
    expect(Object.keys(schema.properties ?? {})).toEqual([
      "title",
      "details",
      "step",
      "report",
      "seen",
      "severity",
      "where",
      "tags",
    ]);
    expect(ui).toEqual({
      where: { "ui:widget": "LinesWidget" },
      details: { "ui:widget": "textarea" },
      report: { "ui:widget": "textarea" },
      seen: { "ui:widget": "text" },
    });
  });
});
