import type { Preview, RunRequest } from "../../api/client";

const quote = (s: string) => (/^[A-Za-z0-9._=:/@%+,-]+$/.test(s) ? s : `'${s.replaceAll("'", `'\\''`)}'`);

export function needsText(needs: RunRequest["needs"]): string {
  return Object.entries(needs ?? {})
    .map(([fact, values]) => `${fact}=${values.join("|")}`)
    .join(" ");
}

export function needsOf(text: string): NonNullable<RunRequest["needs"]> {
  const out: Record<string, string[]> = {};
  for (const word of text.split(/\s+/)) {
    const at = word.indexOf("=");
    if (at > 0) out[word.slice(0, at)] = word.slice(at + 1).split("|");
  }
  return out;
}

/** The command line that starts the same run. */
export function commandOf(p: Preview, r: RunRequest): string {
  const parts = ["pane run", quote(p.suite), "--matrix", quote(p.matrix)];
  const flag = (name: string, v: string | number | undefined) => {
    if (v) parts.push(`--${name}`, quote(String(v)));
  };
  flag("env", r.environment);
  flag("base", r.base);
  for (const [k, v] of Object.entries(r.vars ?? {})) flag("var", `${k}=${v}`);
  for (const t of r.tags ?? []) flag("tag", t);
  for (const t of r.tests ?? []) flag("test", t);
  flag("deal", r.deal === "spread" ? r.deal : "");
  flag("browser", r.browser === "kept" ? r.browser : "");
  flag("mending", r.mending);
  for (const [k, v] of Object.entries(r.needs ?? {})) flag("needs", `${k}=${v.join("|")}`);
  flag("lanes", r.lanes);
  flag("limit", r.limit);
  flag("priority", r.priority);
  flag("retries", r.retries);
  flag("stop-after", r.stop_after);
  if (r.traffic) flag("traffic", r.traffic);
  flag("relay", r.relay);
  for (const [k, v] of Object.entries(r.record ?? {})) flag("record", `${k}=${v}`);
  flag("test-limit", r.test_limit_s && `${r.test_limit_s}s`);
  flag("run-limit", r.run_limit_s && `${r.run_limit_s}s`);
  flag("queue-limit", r.queue_limit_s && `${r.queue_limit_s}s`);
  return parts.join(" ");
}
