import { test } from "node:test";
import { withBrowser } from "./pane.js";

test("a wrong password is refused", () =>
  withBrowser("a wrong password is refused", async (browser) => {
    await browser.visit("/sign-in");
    await browser.enter("input[name=name]", "harbourmaster");
    await browser.enter("input[name=password]", "neap");
    await browser.click("main button");
    await browser.shows(/wrong|refused|do not/i);
  }));

test("the fees in winter", { skip: "no tariff for winter yet" }, () => {});
