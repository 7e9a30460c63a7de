import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { post, remove, type Agent, type Why } from "../../api/client";
import { Glass } from "../../ui/Glass";
import { Button, Confirm, Empty, Field, Heads, Hint, Sheet, Trouble, Waiting } from "../../ui/parts";
import { useNow } from "../../ui/useNow";
import { ago, many, took } from "../../ui/words";
import { useAgents, useWhy } from "./queries";
import { Tabs } from "../../ui/Tabs";
import { fleetPages } from "./BrowsersPage";
import { useTitle } from "../../ui/useTitle";

/** Who can run what? */
export function FleetPage() {
  useTitle("Fleet");
  const [params, setParams] = useSearchParams();
  const needs = params.get("needs") ?? "";
  const agents = useAgents();
  const why = useWhy(needs);
  if (agents.isPending) return <Waiting />;
  if (agents.error) return <Trouble error={agents.error} again={() => void agents.refetch()} />;
  const set = (v: string) => {
    setParams(v ? { needs: v } : {}, { replace: true });
  };
  const order = new Map((why.data?.nearest ?? []).map((name, i) => [name, i + 1]));
  const list = [...agents.data].sort((a, b) => (order.get(a.name) ?? 0) - (order.get(b.name) ?? 0));
  const slots = agents.data.filter((a) => !a.away).reduce((n, a) => n + a.slots, 0);
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <Tabs label="Fleet" pages={fleetPages} />
      <Needs needs={needs} onNeeds={set} why={why.data} error={why.error} />
      <Sheet
        title={`${agents.data.length} agents, ${slots} slots that take work`}
        aside={
          <span className="text-sm text-soft">{agents.data.reduce((n, a) => n + a.used, 0)} in use</span>
        }
      >
        {list.length === 0 ? (
          <Empty title="No agent has joined yet">
            On a machine with browsers, run{" "}
            <code className="font-mono text-ink">pane agent --service {location.origin}</code>.
          </Empty>
        ) : (
          <Agents agents={list} why={needs ? why.data : undefined} />
        )}
      </Sheet>
    </div>
  );
}

const asked = ["browser", "engine", "channel", "version", "os", "mode", "arch", "pool"];

/** Needs in words, with the facts there are to choose from. */
function Needs({
  needs,
  onNeeds,
  why,
  error,
}: {
  needs: string;
  onNeeds: (v: string) => void;
  why: Why | undefined;
  error: Error | null;
}) {
  const [typed, setTyped] = useState(needs);
  useEffect(() => {
    if (typed.trim() === needs) return;
    const pause = setTimeout(() => {
      onNeeds(typed.trim());
    }, 250);
    return () => {
      clearTimeout(pause);
    };
    // eslint-disable-next-line react-hooks/exhaustive-deps -- only typing asks anew
  }, [typed]);
  const words = typed.split(/\s+/).filter(Boolean);
  const toggle = (fact: string, value: string) => {
    const old = words.find((w) => w.startsWith(fact + "="));
    const values = new Set(old ? old.slice(fact.length + 1).split("|") : []);
    if (values.has(value)) values.delete(value);
    else values.add(value);
    const rest = words.filter((w) => w !== old);
    setTyped([...rest, ...(values.size > 0 ? [`${fact}=${[...values].join("|")}`] : [])].join(" "));
  };
  const facts = Object.entries(why?.facts ?? {})
    .filter(([f]) => !["agent", "cores", "memory_mb", "os_version"].includes(f))
    .sort(
      ([a], [b]) => ((asked.indexOf(a) + 100) % 100) - ((asked.indexOf(b) + 100) % 100) || a.localeCompare(b),
    );
  return (
    <Sheet title="Who can run what?">
      <div className="grid gap-3 p-4">
        <Field
          label="Needs, such as browser=firefox version=>=140 site=quay"
          value={typed}
          onChange={(e) => {
            setTyped(e.target.value);
          }}
          className="w-full font-mono"
        />
        <div className="grid grid-cols-2 items-start gap-x-6 gap-y-1.5">
          {facts.map(([fact, values]) => (
            <div key={fact} className="flex flex-wrap items-center gap-1.5 text-xs">
              <span className="w-16 text-soft">{fact}</span>
              {[
                ...new Set(
                  values.map((v) =>
                    ["version", "engine", "channel"].includes(fact) ? (v.split(" ")[1] ?? v) : v,
                  ),
                ),
              ].map((v) => {
                const on = words.some(
                  (w) =>
                    w.startsWith(fact + "=") &&
                    w
                      .slice(fact.length + 1)
                      .split("|")
                      .includes(v),
                );
                return (
                  <button
                    key={v}
                    type="button"
                    aria-pressed={on}
                    onClick={() => {
                      toggle(fact, v);
                    }}
                    className={`rounded border px-2 py-0.5 ${on ? "border-accent bg-accent/15" : "border-line text-soft hover:text-ink"}`}
                  >
                    {v}
                  </button>
                );
              })}
            </div>
          ))}
        </div>
        {error ? <Trouble error={error} /> : why && needs && <Answer why={why} />}
      </div>
    </Sheet>
  );
}

function Answer({ why }: { why: Why }) {
  const away = Object.keys(why.away).length;
  const n = why.idle.length + why.busy.length + away;
  return (
    <p className={n === 0 ? "text-failed" : ""} aria-live="polite">
      {n === 0
        ? why.why
        : `${n === 1 ? "One agent" : `${n} agents`} can: ${[why.idle.length && `${why.idle.length} idle`, why.busy.length && `${why.busy.length} busy`, away && `${away} away`].filter(Boolean).join(", ")}.`}
    </p>
  );
}

function Agents({ agents, why }: { agents: Agent[]; why: Why | undefined }) {
  const now = useNow(true);
  return (
    <table className="w-full text-left text-sm">
      <Heads of={["Agent", "Slots", "System", "Browsers", "Labels", "Works on", ""]} />
      <tbody>
        {agents.map((a) => (
          <Row key={a.name} agent={a} lacks={why?.others[a.name]} now={now} />
        ))}
      </tbody>
    </table>
  );
}

function Row({
  agent: a,
  lacks,
  now,
}: {
  agent: Agent;
  lacks: Why["others"][string] | undefined;
  now: number;
}) {
  const m = a.machine;
  return (
    <tr className={`border-t border-line align-top ${lacks ? "opacity-60" : ""}`}>
      <td className="px-4 py-2.5">
        <span className="font-medium">{a.name}</span>
        {m.stand_in && (
          <span className="ml-2 rounded border border-dashed border-line px-1.5 text-xs text-soft">
            stand-in
          </span>
        )}
        {m.os === "android" && (
          <span className="ml-2 rounded border border-line px-1.5 text-xs text-soft">phone</span>
        )}
        <span className={`block text-xs ${a.away ? "text-flaky" : "text-passed"}`}>
          {a.away || "takes work"}
          {!a.online && a.last_seen && `, seen ${ago(a.last_seen, now)}`}
          {a.rest_ends && `, for ${took(Math.max(0, Date.parse(a.rest_ends) - now))} more`}
        </span>
        {lacks && (
          <span className="mt-1 block max-w-72 text-xs text-failed">
            {lacks
              .map((l) => `${l.fact}: wants ${l.want.join(" or ")}, has ${l.have.join(", ") || "none"}`)
              .join("; ")}
          </span>
        )}
      </td>
      <td className="px-4 py-2.5">
        <span className="flex max-w-28 flex-wrap gap-1" aria-label={`${a.used} of ${a.slots} in use`}>
          {Array.from({ length: Math.min(a.slots, 16) }, (_, i) => (
            <Glass key={i} size={13} fill={i < a.used ? "running" : "queued"} label="" />
          ))}
        </span>
        <span className="text-xs text-soft">
          {a.used} of {a.slots}
        </span>
        {a.advice.slots > 0 && (
          <Hint
            text={`${a.advice.why}. Work took ${a.advice.slower.map((f, i) => `${f}× as long with ${i + 1} open`).join(", ")}; ${a.advice.samples} timings.`}
          >
            <span className={`block text-xs ${a.advice.slots === a.slots ? "text-soft" : "text-flaky"}`}>
              advice: {a.advice.slots}
            </span>
          </Hint>
        )}
      </td>
      <td className="px-4 py-2.5">
        {m.os_version || m.os}
        <span className="block text-xs text-soft">
          {m.arch}, {m.cores} cores, {Math.round(m.memory_mb / 1024)} GB
        </span>
        {m.os === "android" && (
          <span className="block text-xs text-soft">
            {m.model}, {m.screen?.replace("x", "×") || "size unknown"}
          </span>
        )}
        {!m.stand_in &&
          (m.isolation === "sandbox" ? (
            <span className="block text-xs text-soft">a sandbox for each session</span>
          ) : (
            <Hint
              text={`Sessions run beside the agent, as its user: ${m.exposed || "the agent says no more"}.`}
            >
              <span className="block text-xs text-flaky">no sandbox</span>
            </Hint>
          ))}
      </td>
      <td className="px-4 py-2.5">
        {m.browsers.map((b) => (
          <span key={b.name + b.version} className={`block ${b.fits ? "" : "text-failed"}`}>
            {b.name}{" "}
            <span className="text-soft">
              {b.version}
              {!b.fits && `: ${b.problem}`}
            </span>
          </span>
        ))}
      </td>
      <td className="px-4 py-2.5 text-xs text-soft">
        {Object.entries(m.labels).map(([k, v]) => (
          <span key={k} className="block">
            {k}={v}
          </span>
        ))}
        {Object.keys(m.tools).length > 0 && (
          <Hint
            text={Object.entries(m.tools)
              .sort()
              .map(([k, v]) => `${k} ${v}`)
              .join(", ")}
          >
            <span className="block">{many(Object.keys(m.tools).length, "tool")}</span>
          </Hint>
        )}
        {m.pool !== "shared" && m.pool && <span className="block text-flaky">only {m.pool}</span>}
      </td>
      <td className="px-4 py-2.5 text-xs">
        {a.work.map((w, i) => (
          <Link key={i} to={`/runs/${w.run}`} className="block hover:underline">
            #{w.run} {w.label} <span className="text-soft">({w.tests})</span>
          </Link>
        ))}
      </td>
      <td className="px-4 py-2.5">
        <Actions agent={a} />
      </td>
    </tr>
  );
}

function Actions({ agent: a }: { agent: Agent }) {
  const queries = useQueryClient();
  const change = useMutation({
    mutationFn: (what: string) =>
      what === "forget"
        ? remove(`/agents/${encodeURIComponent(a.name)}`)
        : post(`/agents/${encodeURIComponent(a.name)}/${what}`),
    onSettled: () => queries.invalidateQueries({ queryKey: ["agents"] }),
  });
  return (
    <span className="flex flex-wrap justify-end gap-1.5">
      <Button
        className="text-xs"
        onClick={() => {
          change.mutate(a.draining ? "resume" : "drain");
        }}
      >
        {a.draining ? "Resume" : "Drain"}
      </Button>
      {a.rest_ends && (
        <Button
          className="text-xs"
          onClick={() => {
            change.mutate("wake");
          }}
        >
          Wake
        </Button>
      )}
      {!a.online && (
        <Confirm
          title={`Forget ${a.name}?`}
          text="Its place in the fleet is removed. It comes back when it joins again."
          action="Forget it"
          onYes={() => {
            change.mutate("forget");
          }}
        >
          <Button className="text-xs">Forget</Button>
        </Confirm>
      )}
      {change.error && <span className="text-xs text-failed">{change.error.message}</span>}
    </span>
  );
}
