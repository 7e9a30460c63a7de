import { describe, expect, it } from "vitest";
import { type Command, commandAt, gist, lines, telling } from "./recorded";

const command = (number: number, at_ms: number, more: Partial<Command> = {}): Command => ({
  number,
  at_ms,
  took_ms: 5,
  name: "Get Title",
  method: "GET",
  path: "/title",
  status: 200,
  ...more,
});

describe("the commands of a session", () => {
  const all = [
    command(1, 10),
    command(2, 50, { error: "no such element" }),
    command(3, 90),
    command(4, 120, { name: "Delete Session", error: "x" }),
  ];
  it("are found by time", () => {
    expect([0, 10, 49, 50, 119, 500].map((t) => commandAt(all, t))).toEqual([0, 0, 0, 1, 2, 3]);
    expect(commandAt([], 7)).toBe(0);
  });
  it("open at the one that tells why it failed", () => {
    expect(telling(all, "failed")).toBe(1);
    expect(telling(all, "ended")).toBe(1);
    expect(telling(all, "passed")).toBe(0);
    expect(telling([command(1, 0), command(2, 5)], "failed")).toBe(0);
    expect(telling([command(1, 0), command(2, 5)], "lab-fault")).toBe(1);
    expect(telling([], "lab-fault")).toBe(0);
  });
  it("say in few words what they do", () => {
    expect(gist(command(1, 0, { arguments: { url: "http://desk.example/" } }))).toBe("http://desk.example/");
    expect(gist(command(1, 0, { arguments: { using: "css selector", value: "#berth" } }))).toBe("#berth");
    expect(gist(command(1, 0, { path: "/element/e7/attribute/href" }))).toBe("attribute href");
    expect(gist(command(1, 0, { path: "/element/e7/click" }))).toBe("click");
    expect(gist(command(1, 0))).toBe("");
    const actions = [
      {
        type: "key",
        actions: [
          { type: "keyDown", value: "O" },
          { type: "keyUp", value: "O" },
          { type: "keyDown", value: "\ue007" },
        ],
      },
      { type: "pointer", actions: [{ type: "pointerMove", x: 10.4, y: 20 }, { type: "pointerDown" }] },
      { type: "wheel", actions: [{ type: "scroll", deltaX: 0, deltaY: 100 }] },
    ];
    expect(gist(command(1, 0, { arguments: { actions } }))).toBe("O⌨, press at 10, 20, scroll by 0, 100");
  });
  it("are read line by line", () => {
    expect(lines<{ a: number }>('{"a":1}\n{"a":2}\n')).toEqual([{ a: 1 }, { a: 2 }]);
    expect(lines("")).toEqual([]);
  });
});
