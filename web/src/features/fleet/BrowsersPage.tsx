import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import {
  get,
  post,
  remove,
  sendArchive,
  type BrowserChange,
  type BrowserRow,
  type Browsers,
  type Stock,
  type StockOn,
  type Who,
} from "../../api/client";
import { listen } from "../../api/events";
import { Glass } from "../../ui/Glass";
import { Button, Confirm, Empty, Field, Heads, Hint, Sheet, Trouble, Waiting } from "../../ui/parts";
import { Tabs } from "../../ui/Tabs";
import { useTitle } from "../../ui/useTitle";
import { ago, bytes } from "../../ui/words";
import { useNow } from "../../ui/useNow";
import { isAdmin } from "../people/rights";

export const fleetPages: [string, string][] = [
  ["/fleet", "Agents"],
  ["/fleet/browsers", "Browsers"],
  ["/fleet/relays", "Relays"],
];

/** Which agent has which browser, and what is on its way? */
export function BrowsersPage() {
  useTitle("Browsers");
  const queries = useQueryClient();
  useEffect(() => {
    const refresh = () => void queries.invalidateQueries({ queryKey: ["browsers"] });
    return listen((e) => {
      if (e.type === "agents") refresh();
    }, refresh);
  }, [queries]);
  const all = useQuery({
    queryKey: ["browsers"],
    queryFn: () => get<Browsers>("/browsers"),
    refetchInterval: 2000,
  });
  const me = useQuery({ queryKey: ["me"], queryFn: () => get<Who>("/me"), staleTime: Infinity });
  const [find, setFind] = useState("");
  if (all.isPending) return <Waiting />;
  if (all.error) return <Trouble error={all.error} again={() => void all.refetch()} />;
  const rows = all.data.rows.filter((r) => fits(r, find));
  const admin = isAdmin(me.data);
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <Tabs label="Fleet" pages={fleetPages} />
      <Sheet
        title="Which agent has which browser?"
        aside={
          <Field
            label="Find browser, version, agent"
            size={28}
            value={find}
            onChange={(e) => {
              setFind(e.target.value);
            }}
          />
        }
      >
        {all.data.agents.length === 0 ? (
          <Empty title="No agent has joined yet">
            On a machine with browsers, run{" "}
            <code className="font-mono text-ink">pane agent --service {location.origin}</code>.
          </Empty>
        ) : rows.length === 0 ? (
          <Empty title="No browser is like that">Clear the search to see them all.</Empty>
        ) : (
          <Grid agents={all.data.agents} rows={rows} />
        )}
      </Sheet>
      <Changes changes={all.data.changes} />
      <Stocked stock={all.data.stock} admin={admin} />
      {admin && <Give />}
    </div>
  );
}

function fits(row: BrowserRow, find: string) {
  const words = find.toLowerCase().split(/\s+/).filter(Boolean);
  const text = [row.browser, row.version, row.channel, ...Object.keys(row.on)].join(" ").toLowerCase();
  return words.every((w) => text.includes(w));
}

/** Agents that have the same stand in one column. */
function columns(agents: string[], rows: BrowserRow[]) {
  const out = new Map<string, string[]>();
  for (const agent of agents) {
    const key = rows.map((r) => (r.on[agent] ? `${r.on[agent].fits}${r.on[agent].problem}` : "")).join("\n");
    out.set(key, [...(out.get(key) ?? []), agent]);
  }
  return [...out.values()];
}

function Grid({ agents, rows }: { agents: string[]; rows: BrowserRow[] }) {
  const groups = columns(agents, rows);
  return (
    <div className="overflow-x-auto">
      <table className="w-full text-left text-sm">
        <thead>
          <tr className="text-xs text-soft">
            {["Browser", "Version", "Channel"].map((h) => (
              <th key={h} className="px-4 py-2 font-normal">
                {h}
              </th>
            ))}
            {groups.map((group) => (
              <th key={group[0]} className="px-3 py-2 text-center font-normal">
                {group.length > 1 ? (
                  <Hint text={group.join(", ")}>
                    <span>
                      {group[0]}
                      <span className="block text-soft">and {group.length - 1} more</span>
                    </span>
                  </Hint>
                ) : (
                  group[0]
                )}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.map((r, i) => (
            <tr key={r.browser + r.version} className="border-t border-line hover:bg-raised/50">
              <td className="px-4 py-1.5">
                {r.browser !== rows[i - 1]?.browser && (
                  <>
                    {r.browser}
                    {r.stand_in && (
                      <span className="ml-2 rounded border border-dashed border-line px-1.5 text-xs text-soft">
                        stand-in
                      </span>
                    )}
                  </>
                )}
              </td>
              <td className="px-4 py-1.5 font-mono text-xs tabular-nums">{r.version || "–"}</td>
              <td className="px-4 py-1.5 text-soft">{r.channel || "–"}</td>
              {groups.map((group) => (
                <td key={group[0]} className="px-3 py-1.5 text-center">
                  <Has row={r} agent={group[0] ?? ""} />
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

const origins: Record<string, string> = {
  named: "named by the agent's settings",
  stocked: "in a directory of browsers",
  system: "installed in the system",
  path: "on the path",
  phone: "on the phone",
};

function Has({ row, agent }: { row: BrowserRow; agent: string }) {
  const has = row.on[agent];
  if (!has) return <span className="text-soft">·</span>;
  const where = origins[has.from] ?? "";
  return (
    <Hint
      text={
        has.fits
          ? [where, has.driver_version && `driver ${has.driver_version}`].filter(Boolean).join(", ") ||
            "offered"
          : `${has.problem}. ${has.remedy}`
      }
    >
      <span className="inline-flex">
        <Glass
          size={15}
          fill={has.fits ? "passed" : has.problem === "it is being tried" ? "running" : "failed"}
          label={`${row.browser} ${row.version} on ${agent}: ${has.fits ? "offered" : has.problem}`}
        />
      </span>
    </Hint>
  );
}

/** Which versions came into the lab, and which left it. */
function Changes({ changes }: { changes: BrowserChange[] }) {
  const now = useNow(false);
  const [all, setAll] = useState(false);
  if (changes.length === 0) return null;
  return (
    <Sheet
      title="New in the lab"
      aside={
        changes.length > 5 && (
          <Button
            className="text-xs"
            onClick={() => {
              setAll(!all);
            }}
          >
            {all ? "The newest" : `All ${changes.length}`}
          </Button>
        )
      }
    >
      <ul className="grid gap-1 px-4 py-3 text-sm">
        {changes.slice(0, all ? undefined : 5).map((c, i) => (
          <li key={i}>
            <span className={c.came ? "text-passed" : "text-soft"}>
              {c.browser} <span className="font-mono text-xs">{c.version}</span> {c.came ? "came" : "went"}
            </span>{" "}
            <span className="text-soft">
              with {c.agent}, {ago(c.at, now)}
            </span>
          </li>
        ))}
      </ul>
    </Sheet>
  );
}

function Stocked({ stock, admin }: { stock: Stock[]; admin: boolean }) {
  const now = useNow(false);
  const queries = useQueryClient();
  const drop = useMutation({
    mutationFn: (id: string) => remove(`/stock/${id}`),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["browsers"] }),
  });
  return (
    <Sheet title="Stocked: what the service hands to every agent that matches">
      {drop.error && <Trouble error={drop.error} />}
      {stock.length === 0 ? (
        <Empty title="Nothing is stocked">
          {admin
            ? "Give the archives of a browser and its driver below, or with "
            : "An admin gives the archives of a browser and its driver with "}
          <code className="font-mono text-ink">pane browsers stock ARCHIVE…</code>.
        </Empty>
      ) : (
        <table className="w-full text-left text-sm">
          <Heads of={["Browser", "For", "Agents", ""]} />
          <tbody>
            {stock.map((s) => (
              <tr key={s.id} className="border-t border-line align-top">
                <td className="max-w-96 px-4 py-2.5">
                  <span className="font-medium">{s.name}</span>
                  <span className="block text-xs text-soft">
                    {s.archives.length === 1 ? "one archive" : `${s.archives.length} archives`},{" "}
                    {bytes(s.archives.reduce((n, a) => n + a.size, 0))}, by {s.added_by}
                    {s.added_at && ` ${ago(s.added_at, now)}`}
                  </span>
                </td>
                <td className="px-4 py-2.5 font-mono text-xs">
                  {Object.entries(s.needs)
                    .map(([k, v]) => `${k}=${v.join("|")}`)
                    .join(" ") || "every agent"}
                </td>
                <td className="px-4 py-2.5">
                  {s.on.length === 0 && <span className="text-flaky">no agent matches</span>}
                  {s.on.map((on) => (
                    <On key={on.agent} on={on} />
                  ))}
                </td>
                <td className="px-4 py-2.5 text-right">
                  {admin && (
                    <Confirm
                      title={`Drop ${s.name}?`}
                      text="Agents offer it no more and take it away when no session uses it."
                      action="Drop it"
                      onYes={() => {
                        drop.mutate(s.id);
                      }}
                    >
                      <Button className="text-xs">Drop</Button>
                    </Confirm>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </Sheet>
  );
}

const tones: Record<string, string> = {
  offered: "text-passed",
  refused: "text-failed",
  unwilling: "text-soft",
};

function On({ on }: { on: StockOn }) {
  return (
    <div className="py-0.5">
      <span className="inline-block min-w-24">{on.agent}</span>{" "}
      <span className={tones[on.state] ?? "text-flaky"}>
        {on.state}
        {!on.online && ", offline"}
      </span>
      {on.state === "fetching" && (
        <span className="ml-2 text-xs text-soft tabular-nums">
          <progress
            className="mr-1.5 w-24 align-middle accent-accent"
            value={on.done}
            max={on.size}
            aria-label={`${on.agent} has fetched`}
          />
          {bytes(on.done)} of {bytes(on.size)}
        </span>
      )}
      {on.why && <span className="block max-w-xl text-xs text-soft">{on.why}</span>}
    </div>
  );
}

/** Gives archives that together are one browser. */
function Give() {
  const queries = useQueryClient();
  const files = useRef<HTMLInputElement>(null);
  const [name, setName] = useState("");
  const [needs, setNeeds] = useState("");
  const [sent, setSent] = useState("");
  const give = useMutation({
    mutationFn: async () => {
      const archives = [];
      for (const file of files.current?.files ?? []) {
        setSent(`Reading ${file.name} …`);
        archives.push(
          await sendArchive(file, (done) => {
            setSent(`${file.name}: ${bytes(done)} of ${bytes(file.size)}`);
          }),
        );
      }
      return post<Stock>("/stock", {
        archives,
        ...(name && { name }),
        ...(needs.trim() && { needs: needs.trim().split(/\s+/) }),
      });
    },
    onSuccess: () => {
      setName("");
      if (files.current) files.current.value = "";
      return queries.invalidateQueries({ queryKey: ["browsers"] });
    },
    onSettled: () => {
      setSent("");
    },
  });
  return (
    <Sheet title="Stock a browser">
      <form
        className="flex flex-wrap items-center gap-3 p-4"
        onSubmit={(e) => {
          e.preventDefault();
          give.mutate();
        }}
      >
        <input
          ref={files}
          type="file"
          multiple
          required
          aria-label="Archives of one browser and its driver"
          className="text-sm file:mr-3 file:rounded file:border file:border-line file:bg-raised file:px-3 file:py-1.5 file:text-ink"
        />
        <Field
          label="Name, if not the archives'"
          size={22}
          value={name}
          onChange={(e) => {
            setName(e.target.value);
          }}
        />
        <Field
          label="For agents with, such as os=linux"
          size={28}
          value={needs}
          onChange={(e) => {
            setNeeds(e.target.value);
          }}
          className="font-mono"
        />
        <Button type="submit" disabled={give.isPending}>
          Stock it
        </Button>
        <span className="text-sm text-soft" aria-live="polite">
          {sent}
        </span>
        <p className="w-full text-xs text-soft">
          .deb, .tar.xz, .tar.gz, .tar.zst or .zip, at most 512 MB each. Several archives are one
          installation. Each agent unpacks it, opens a session on it, and offers it when that went well.
        </p>
        {give.error && <Trouble error={give.error} />}
      </form>
    </Sheet>
  );
}
