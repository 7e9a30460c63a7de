import { describe, expect, it } from "vitest";
import type { Preview, RunRequest } from "../../api/client";
import { commandOf, needsOf, needsText } from "./command";

const preview = { suite: "desk", matrix: "wall" } as Preview;
const bundle = "0".repeat(64);

describe("commandOf", () => {
  it("leaves out what is not asked for", () => {
    expect(commandOf(preview, { bundle })).toBe("pane run desk --matrix wall");
    expect(commandOf(preview, { bundle, deal: "every", browser: "fresh", limit: 0 })).toBe(
      "pane run desk --matrix wall",
    );
  });
  it("names everything else", () => {
    const r: RunRequest = {
      bundle,
      environment: "local",
      tags: ["smoke"],
      tests: ["Hold a berth"],
      deal: "spread",
      browser: "kept",
      mending: "accept",
      lanes: 1,
      limit: 8,
      priority: -1,
      retries: 2,
      stop_after: 3,
      test_limit_s: 90,
      run_limit_s: 600,
      queue_limit_s: 30,
      needs: { site: ["quay", "pier"] },
      vars: { boat: "Marsh Harrier" },
      base: "http://desk.example",
    };
    expect(commandOf(preview, r)).toBe(
      "pane run desk --matrix wall --env local --base http://desk.example --var 'boat=Marsh Harrier' --tag smoke --test 'Hold a berth' " +
        "--deal spread --browser kept --mending accept --needs 'site=quay|pier' --lanes 1 --limit 8 --priority -1 --retries 2 --stop-after 3 --test-limit 90s --run-limit 600s --queue-limit 30s",
    );
  });
  it("cannot be broken out of by a name", () => {
    expect(commandOf({ ...preview, suite: "a'; rm -rf ~; '" }, { bundle })).toBe(
      `pane run 'a'\\''; rm -rf ~; '\\''' --matrix wall`,
    );
  });
});

describe("needs", () => {
  it("go to text and back", () => {
    const needs = { browser: ["firefox", "chromium"], version: [">=140"] };
    expect(needsOf(needsText(needs))).toEqual(needs);
    expect(needsOf("  nothing =x site=quay")).toEqual({ site: ["quay"] });
    expect(needsText(undefined)).toBe("");
  });
});
