// A W3C WebDriver client of some forty lines: what a suite needs to open its browser where PANE_ENDPOINT says.
const endpoint = process.env.PANE_ENDPOINT ?? "http://127.0.0.1:9515";
export const base = process.env.PANE_BASE ?? "http://127.0.0.1:7480";

async function call(method, path, body) {
  const response = await fetch(endpoint + path, {
    method,
    headers: { "content-type": "application/json" },
    body: method === "POST" ? JSON.stringify(body ?? {}) : undefined,
  });
  const { value } = await response.json();
  if (!response.ok) throw new Error(`${method} ${path}: ${value.error}: ${value.message}`);
  return value;
}

const elementKey = "element-6066-11e4-a52e-4f735466cecf";

/** Opens a browser for a test, by the test's name, and closes it at the end. */
export async function withBrowser(test, use) {
  const { sessionId } = await call("POST", "/session", {
    capabilities: { alwaysMatch: { browserName: "chrome", "pane:options": { test } } },
  });
  const at = `/session/${sessionId}`;
  const find = async (css) => {
    for (let tries = 0; ; tries++) {
      try {
        return (await call("POST", `${at}/element`, { using: "css selector", value: css }))[elementKey];
      } catch (error) {
        if (tries === 30) throw error;
        await new Promise((again) => setTimeout(again, 100));
      }
    }
  };
  try {
    await use({
      visit: (path) => call("POST", `${at}/url`, { url: base + path }),
      title: () => call("GET", `${at}/title`),
      text: async (css) => call("GET", `${at}/element/${await find(css)}/text`),
      click: async (css) => call("POST", `${at}/element/${await find(css)}/click`),
      enter: async (css, text) => call("POST", `${at}/element/${await find(css)}/value`, { text }),
      source: () => call("GET", `${at}/source`),
      /** Waits until the page has a text, since not every driver waits for the page that a click leads to. */
      shows: async (text) => {
        for (let tries = 0; !text.test(await call("GET", `${at}/source`)); tries++) {
          if (tries === 30) throw new Error(`the page never showed ${text}`);
          await new Promise((again) => setTimeout(again, 100));
        }
      },
    });
  } finally {
    await call("DELETE", at);
  }
}
