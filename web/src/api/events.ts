import type { RunEvent } from "./client";

/** What a tab says to the worker that holds the stream: the runs whose walls it shows, that it is still there, or that it goes. */
export interface ToWorker {
  walls?: number[];
  here?: true;
  bye?: true;
}

/** What the worker says: an event as it came, or that the stream is open (again) and what is shown may be old. */
export interface FromWorker {
  event?: string;
  reset?: true;
}

interface Listener {
  wall?: number;
  on: (e: RunEvent) => void;
  reset: () => void;
}

const listeners = new Set<Listener>();
let send: ((message: ToWorker) => void) | undefined;

function heard(message: FromWorker) {
  if (message.reset) for (const l of listeners) l.reset();
  if (message.event === undefined) return;
  const e = JSON.parse(message.event) as RunEvent;
  for (const l of listeners) l.on(e);
}

/** The stream that all tabs share; where there are no shared workers, one of the tab's own. */
function connect(): (message: ToWorker) => void {
  if (typeof SharedWorker === "undefined") return alone();
  const worker = new SharedWorker(new URL("./events.worker.ts", import.meta.url), { type: "module" });
  worker.port.onmessage = (m: MessageEvent<FromWorker>) => {
    heard(m.data);
  };
  const post = (message: ToWorker) => {
    worker.port.postMessage(message);
  };
  setInterval(() => {
    post({ here: true });
  }, 60_000);
  addEventListener("pagehide", () => {
    post({ bye: true });
  });
  addEventListener("pageshow", (e) => {
    if (e.persisted) post({ walls: walls() });
  });
  return post;
}

function alone(): (message: ToWorker) => void {
  let source: EventSource | undefined;
  return ({ walls }) => {
    if (!walls) return;
    source?.close();
    source = new EventSource(`/api/v1/events${walls.length > 0 ? `?walls=${walls.join(",")}` : ""}`);
    source.onopen = () => {
      heard({ reset: true });
    };
    for (const type of ["run", "wall", "agents", "sessions"])
      source.addEventListener(type, (m) => {
        heard({ event: (m as MessageEvent<string>).data });
      });
  };
}

const walls = () => [...listeners].flatMap((l) => (l.wall === undefined ? [] : [l.wall]));

/**
 * Hears of what changes until the returned function is called: of every run that it changed, of the fleet and of
 * sessions; with the number of a run, of its cells as well. `reset` is told whenever something may have been missed.
 */
export function listen(on: (e: RunEvent) => void, reset: () => void, wall?: number): () => void {
  const listener: Listener = { wall, on, reset };
  listeners.add(listener);
  send ??= connect();
  send({ walls: walls() });
  return () => {
    listeners.delete(listener);
    if (wall !== undefined) send?.({ walls: walls() });
  };
}
