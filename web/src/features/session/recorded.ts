import { get, text, type Session } from "../../api/client";

/** One command of a session, as commands.jsonl has it. Times are milliseconds on the session's clock. */
export interface Command {
  number: number;
  at_ms: number;
  took_ms: number;
  name: string;
  method: string;
  path: string;
  arguments?: unknown;
  status: number;
  error?: string;
  message?: string;
  result?: unknown;
  shot?: string;
  by?: string;
}

/** One message of the console. */
export interface Line {
  at_ms: number;
  level: string;
  source: string;
  text: string;
  address?: string;
  row?: number;
  column?: number;
}

interface Pair {
  name: string;
  value: string;
}
interface Timings {
  blocked: number;
  dns: number;
  connect: number;
  ssl: number;
  send: number;
  wait: number;
  receive: number;
}

/** One entry of an HTTP archive, as far as it is shown. */
export interface Entry {
  time: number;
  comment?: string;
  _at_ms: number;
  _error?: string;
  timings: Timings;
  request: {
    method: string;
    url: string;
    httpVersion: string;
    headers: Pair[];
    queryString: Pair[];
    postData?: { mimeType: string; text: string; comment?: string };
  };
  response: {
    status: number;
    statusText: string;
    headers: Pair[];
    content: { size: number; mimeType: string; text?: string; encoding?: string; comment?: string };
  };
}

const file = (id: string, name: string) =>
  `/attempts/${encodeURIComponent(id)}/files/${encodeURIComponent(name)}`;

export const has = (s: Session, name: string) => s.files.some((f) => f.name === name);

export function lines<T>(raw: string): T[] {
  return raw
    .split("\n")
    .filter((l) => l.trim() !== "")
    .map((l) => JSON.parse(l) as T);
}

export const readLines = async <T>(id: string, name: string) => lines<T>(await text(file(id, name)));

export const readText = (id: string, name: string) => text(file(id, name));

export const readNetwork = async (id: string) =>
  (await get<{ log: { entries: Entry[] } }>(file(id, "network.har"))).log.entries;

/** The command to open a session with: the one that says why it failed, or the last before it broke off. */
export function telling(commands: Command[], verdict: string): number {
  if (verdict === "passed") return 0;
  const failed = commands.findLastIndex((c) => c.error && c.name !== "Delete Session");
  return Math.max(0, failed < 0 && verdict === "lab-fault" ? commands.length - 1 : failed);
}

/** The command that was under way, or had just ended, at a time. */
export function commandAt(commands: Command[], ms: number): number {
  let i = commands.findIndex((c) => c.at_ms > ms) - 1;
  if (i === -2) i = commands.length - 1;
  return Math.max(0, i);
}

interface Source {
  type: string;
  actions?: { type: string; value?: string; x?: number; y?: number; deltaX?: number; deltaY?: number }[];
}

/** What one input source does, W3C WebDriver section 17. */
function acts({ type, actions = [] }: Source): string {
  const down = actions.filter((a) => a.type === "keyDown").map((a) => a.value ?? "");
  if (type === "key") return down.map((k) => (k >= "\ue000" && k <= "\uf8ff" ? "⌨" : k)).join("");
  const scroll = actions.find((a) => a.type === "scroll");
  if (scroll) return `scroll by ${scroll.deltaX ?? 0}, ${scroll.deltaY ?? 0}`;
  const move = actions.findLast((a) => a.type === "pointerMove");
  const at = move ? ` at ${Math.round(move.x ?? 0)}, ${Math.round(move.y ?? 0)}` : "";
  return actions.some((a) => a.type === "pointerDown") ? `press${at}` : move ? `move to${at.slice(3)}` : "";
}

/** What a command says in few words: where to, what for. */
export function gist(c: Command): string {
  const a = c.arguments;
  if (a === undefined || a === null)
    return c.path.replace(/^\/element\/[^/]+/, "").replace(/^\//, "") === ""
      ? ""
      : c.path.split("/").slice(3).join(" ");
  if (typeof a !== "object") return JSON.stringify(a);
  const o = a as Record<string, unknown>;
  if (Array.isArray(o.actions)) return (o.actions as Source[]).map(acts).filter(Boolean).join(", ");
  for (const key of ["url", "value", "text", "script", "handle", "id"])
    if (typeof o[key] === "string") return o[key];
  return JSON.stringify(a);
}
