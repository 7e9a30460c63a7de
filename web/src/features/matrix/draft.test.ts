import { describe, expect, it } from "vitest";
import { asYAML, chosen, fromMatrix } from "./draft";

const source = {
  name: "saltmarsh: wide",
  project: "saltmarsh",
  matrix: {
    name: "wide",
    axes: [
      { name: "browser", values: ["chromium", "webkitgtk"] },
      { name: "on", values: ["yes", "1.0"] },
    ],
    cover: { strength: 2, axes: ["browser", "on"] },
    only: ['browser != "webkitgtk"'],
    drop: [{ browser: ["webkitgtk"], on: ["yes"] }],
    add: [{ browser: "webkitgtk", on: "1.0" }],
    seed: 7,
  },
};

describe("a draft", () => {
  it("stands for the matrix it came from", () => {
    expect(chosen(fromMatrix(source))).toEqual({ ...source.matrix });
  });
  it("leaves out what is switched off, and rules that speak of it", () => {
    const m = chosen({ ...fromMatrix(source), off: ["on=yes"] });
    expect(m.axes[1]?.values).toEqual(["1.0"]);
    expect(m.drop).toEqual([]);
    const none = chosen({ ...fromMatrix(source), off: ["on=yes", "on=1.0"] });
    expect(none.axes.map((a) => a.name)).toEqual(["browser"]);
    expect(none.cover.axes).toEqual(["browser"]);
  });
  it("is empty without a source", () => {
    expect(chosen(fromMatrix(undefined)).axes).toEqual([]);
  });
});

describe("asYAML", () => {
  it("quotes what YAML would read as something else than text", () => {
    expect(asYAML(fromMatrix(source))).toBe(
      [
        "matrices:",
        "  wide:",
        "    axes:",
        "      browser: [chromium, webkitgtk]",
        '      "on": ["yes", "1.0"]',
        "    only:",
        '      - "browser != \\"webkitgtk\\""',
        "    drop:",
        '      - {browser: [webkitgtk], "on": ["yes"]}',
        "    add:",
        '      - {browser: webkitgtk, "on": "1.0"}',
        "    cover: pairs",
        "    seed: 7",
      ].join("\n"),
    );
  });
});
