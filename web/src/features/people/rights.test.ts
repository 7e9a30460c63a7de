import { expect, test } from "vitest";
import type { Token } from "../../api/client";
import { isAdmin, matches, mayDo } from "./rights";

const token = (more: Partial<Token>): Token => ({
  id: "1",
  name: "CI",
  owner: "tern",
  rights: [],
  console: false,
  agent: "",
  pool: "",
  created_at: null,
  expires_at: null,
  used_at: null,
  used_from: "",
  ...more,
});

test("rights are told in words", () => {
  const t = token({
    rights: [
      { project: "saltmarsh", role: "runner" },
      { project: "*", role: "viewer" },
    ],
  });
  expect(mayDo(t)).toBe("runner in saltmarsh, viewer");
  expect(mayDo(token({ agent: "quay", pool: "tidal" }))).toBe("agent quay, for tidal alone");
  expect(mayDo(token({ agent: "quay", pool: "shared" }))).toBe("agent quay");
  expect(["TERN", "salt", " ci "].map((x) => matches(t, x))).toEqual([true, true, true]);
  expect(matches(t, "gull")).toBe(false);
});

test("an admin of one project is not the lab's", () => {
  const who = (project: string, role: "admin" | "keeper") => ({
    name: "a",
    owner: "a",
    role,
    rights: [{ project, role }],
    share: null,
  });
  expect([
    isAdmin(who("*", "admin")),
    isAdmin(who("quay", "admin")),
    isAdmin(who("*", "keeper")),
    isAdmin(),
  ]).toEqual([true, false, false, false]);
});
