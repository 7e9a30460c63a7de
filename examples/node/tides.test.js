import { test, describe } from "node:test";
import assert from "node:assert/strict";
import { withBrowser } from "./pane.js";

describe("tide table", () => {
  test("has four tides", () =>
    withBrowser("has four tides", async (browser) => {
      await browser.visit("/tides");
      assert.match(await browser.title(), /Tide table/);
      assert.equal((await browser.source()).match(/class="tide"/g)?.length, 4);
    }));

  test("is reached from the start page", () =>
    withBrowser("is reached from the start page", async (browser) => {
      await browser.visit("/");
      await browser.click("nav a[href='/tides']");
      await browser.shows(/<h1[^>]*>Tide table/);
    }));
});
