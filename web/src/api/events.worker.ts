// One stream of events for all tabs of a browser. A browser opens few connections to one address (six over
// HTTP/1.1), and a stream holds one for as long as it is open.
import type { FromWorker, ToWorker } from "./events";

const types = ["run", "wall", "agents", "sessions"];
const silence = 5 * 60_000; // a tab says now and then that it is there; browsers slow timers of tabs in the background down to one a minute

interface Tab {
  port: MessagePort;
  walls: number[];
  heard: number;
}

const tabs = new Set<Tab>();
let source: EventSource | undefined;
let open = "";

function tell(message: FromWorker) {
  for (const tab of tabs) tab.port.postMessage(message);
}

/** Opens the stream for what the tabs show, if it is not the one that is open. */
function stream() {
  const walls = [...new Set([...tabs].flatMap((t) => t.walls))].sort((a, b) => a - b).join(",");
  if (tabs.size === 0) {
    source?.close();
    source = undefined;
    return;
  }
  if (source && walls === open && source.readyState !== EventSource.CLOSED) return;
  source?.close();
  open = walls;
  source = new EventSource(`/api/v1/events${walls && `?walls=${walls}`}`);
  source.onopen = () => {
    tell({ reset: true });
  };
  for (const type of types) {
    source.addEventListener(type, (m) => {
      tell({ event: (m as MessageEvent<string>).data });
    });
  }
}

setInterval(() => {
  for (const tab of tabs) if (Date.now() - tab.heard > silence) tabs.delete(tab);
  stream();
}, 30_000);

(self as unknown as { onconnect: (e: MessageEvent) => void }).onconnect = (e) => {
  const port = e.ports[0];
  if (!port) return;
  const tab: Tab = { port, walls: [], heard: Date.now() };
  port.onmessage = (m: MessageEvent<ToWorker>) => {
    tab.heard = Date.now();
    if (m.data.bye) tabs.delete(tab);
    else if (m.data.walls) {
      tab.walls = m.data.walls;
      const fresh = !tabs.has(tab);
      tabs.add(tab);
      if (fresh && source?.readyState === EventSource.OPEN) port.postMessage({ reset: true });
    }
    stream();
  };
  port.start();
};
