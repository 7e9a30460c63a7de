import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Tabs } from "radix-ui";
import { useEffect, useState, type ReactNode } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { get, post, text, type Session } from "../../api/client";
import { fillOf, Glass, inkOf, said } from "../../ui/Glass";
import { Button, Confirm, Sheet, Trouble, Waiting } from "../../ui/parts";
import { useNow } from "../../ui/useNow";
import { between, took } from "../../ui/words";
import { Commands } from "./Commands";
import { Capabilities, Facts, Note } from "./Facts";
import { Panel } from "../../ui/Panel";
import { Share } from "../pass/Share";
import { useShared } from "../pass/useShared";
import { Live } from "./Live";
import { Console, Log } from "./Logs";
import { Network } from "./Network";
import { Player } from "./Player";
import {
  type Command,
  commandAt,
  has,
  type Line,
  lines,
  readLines,
  readNetwork,
  readText,
  telling,
} from "./recorded";
import { listen } from "../../api/events";
import { useTitle } from "../../ui/useTitle";

/** What happened here? */
export function SessionPage() {
  const { id = "" } = useParams();
  const queries = useQueryClient();
  const session = useQuery({ queryKey: ["session", id], queryFn: () => get<Session>(`/sessions/${id}`) });
  const live = session.data !== undefined && session.data.state !== "ended";
  useEffect(() => {
    if (!live) return;
    const refresh = () => void queries.invalidateQueries({ queryKey: ["session", id] });
    return listen((e) => {
      if (e.type !== "agents") refresh();
    }, refresh);
  }, [id, live, queries]);
  useTitle(session.data?.name, "Session");
  if (session.isPending) return <Waiting />;
  if (session.error) return <Trouble error={session.error} again={() => void session.refetch()} />;
  const s = session.data;
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <Head session={s} />
      {s.state === "waiting" ? (
        <Sheet title="Waiting for a slot">
          <p className="p-4 text-soft">
            {s.ahead === 0
              ? "It is the next of those that ask for the same."
              : `${s.ahead} that ask for the same came before it.`}{" "}
            It is dealt out like all other work, by shares, priorities and limits.
          </p>
        </Sheet>
      ) : s.state === "open" ? (
        <Open session={s} onGone={() => void session.refetch()} />
      ) : (
        <Ended key={s.id} session={s} />
      )}
    </div>
  );
}

function Head({ session: s }: { session: Session }) {
  const now = useNow(s.state !== "ended");
  const fill = fillOf(s.state === "open" ? "running" : s.state, s.verdict);
  const time = between(s.opened_at, s.ended_at, now);
  const queries = useQueryClient();
  const again = { onSettled: () => queries.invalidateQueries({ queryKey: ["session", s.id] }) };
  const end = useMutation({ mutationFn: () => post(`/sessions/${s.id}/end`), ...again });
  const judge = useMutation({
    mutationFn: (verdict: string) =>
      post(`/sessions/${s.id}/verdict`, { verdict, message: "said by hand in the console" }),
    ...again,
  });
  const shared = useShared();
  const canJudge = !shared && s.kind === "remote" && (s.verdict === "ended" || s.state === "open");
  return (
    <div className="flex flex-wrap items-center gap-x-5 gap-y-2">
      <Glass fill={fill} size={30} />
      <div className="min-w-0">
        <p className="text-sm text-soft">
          <Link className="text-accent hover:underline" to={`/runs/${s.run}`}>
            Run #{s.run}
          </Link>{" "}
          {s.run_name}, {s.project}
          {s.test !== s.name && `, test ${s.test}`}
          {s.kind === "script" && (
            <>
              ,{" "}
              <Link
                className="text-accent hover:underline"
                to={`/runs/${s.run}/tests/${s.test_index}?pane=${s.pane}`}
              >
                its steps
              </Link>
            </>
          )}
        </p>
        <h1 className="text-lg font-semibold">
          {s.name} <span className={inkOf[fill]}>{said(s.verdict || s.state)}</span>
        </h1>
        {s.message && <p className="max-w-4xl text-sm whitespace-pre-wrap">{s.message}</p>}
      </div>
      <div className="ml-auto flex flex-wrap items-center gap-4 text-sm">
        <span>
          {s.label} <span className="text-soft">on {s.agent || "no agent yet"}</span>
        </span>
        <span>{time === null ? "not open yet" : took(time)}</span>
        {s.tags.map((t) => (
          <Link
            key={t}
            to={`/sessions?tag=${encodeURIComponent(t)}`}
            className="rounded border border-line px-2 text-xs text-soft hover:text-ink"
          >
            {t}
          </Link>
        ))}
        {s.attempts.length > 1 && (
          <span className="flex gap-1" role="group" aria-label="Attempts">
            {s.attempts
              .filter((a) => a.sessions.length > 0)
              .map((a) => (
                <Link
                  key={a.id}
                  to={`/sessions/${a.sessions[0]}`}
                  aria-current={a.sessions.includes(s.id)}
                  className={`inline-flex items-center gap-1.5 rounded border px-2 py-0.5 text-xs ${a.sessions.includes(s.id) ? "border-accent" : "border-line"}`}
                >
                  <Glass fill={fillOf("ended", a.verdict)} size={12} />
                  attempt {a.number}
                </Link>
              ))}
          </span>
        )}
        {!shared && (
          <Panel
            title="Share this session"
            about="With somebody who has no account."
            trigger={<Button>Share</Button>}
          >
            <Share of={{ kind: "session", session: s.id }} />
          </Panel>
        )}
        {canJudge && (
          <>
            <Button
              onClick={() => {
                judge.mutate("passed");
              }}
            >
              It passed
            </Button>
            <Button
              onClick={() => {
                judge.mutate("failed");
              }}
            >
              It failed
            </Button>
          </>
        )}
        {s.state !== "ended" && s.kind === "remote" && (
          <Confirm
            title="End this session?"
            text="Its browser is closed, and its runner's next command fails."
            action="End the session"
            onYes={() => {
              end.mutate();
            }}
          >
            <Button kind="danger">End session</Button>
          </Confirm>
        )}
      </div>
      {(end.error ?? judge.error) && <Trouble error={(end.error ?? judge.error) as Error} />}
    </div>
  );
}

/** A session while it runs: its picture, and its commands as they come. */
function Open({ session: s, onGone }: { session: Session; onGone: () => void }) {
  const [commands, setCommands] = useState<Command[]>([]);
  const [console, setConsole] = useState<Line[]>([]);
  const [chosen, setChosen] = useState<number>();
  useEffect(() => {
    let n = 0;
    let m = 0;
    const more = async () => {
      const fresh = lines<Command>(await text(`/sessions/${s.id}/so-far/commands?from=${n}`).catch(() => ""));
      n += fresh.length;
      if (fresh.length > 0) setCommands((old) => [...old, ...fresh]);
      const said = lines<Line>(await text(`/sessions/${s.id}/so-far/console?from=${m}`).catch(() => ""));
      m += said.length;
      if (said.length > 0) setConsole((old) => [...old, ...said]);
    };
    void more();
    const tick = setInterval(() => void more(), 1000);
    return () => {
      clearInterval(tick);
    };
  }, [s.id]);
  return (
    <>
      <div className="grid gap-4 lg:grid-cols-[minmax(0,8fr)_minmax(0,5fr)]">
        <Sheet title="Live">
          <Live session={s} onGone={onGone} />
        </Sheet>
        <Sheet title="Commands so far">
          <Commands
            commands={commands}
            chosen={chosen ?? commands.length - 1}
            onChoose={setChosen}
            empty="None has come yet, or they are not recorded."
          />
        </Sheet>
      </div>
      {console.length > 0 && (
        <Sheet title="Console so far">
          <Console lines={console} at={Infinity} onAt={() => undefined} />
        </Sheet>
      )}
    </>
  );
}

function Ended({ session: s }: { session: Session }) {
  const [params, setParams] = useSearchParams();
  const file = <T,>(name: string, read: (id: string) => Promise<T>) => ({
    queryKey: ["recorded", s.id, name],
    queryFn: () => read(s.attempt_id),
    enabled: has(s, name),
    staleTime: Infinity,
  });
  const commands = useQuery(file("commands.jsonl", (id) => readLines<Command>(id, "commands.jsonl"))).data;
  const console = useQuery(file("console.jsonl", (id) => readLines<Line>(id, "console.jsonl"))).data;
  const network = useQuery(file("network.har", readNetwork)).data;
  const driver = useQuery(file("driver.log", (id) => readText(id, "driver.log"))).data;
  const agent = useQuery(file("agent.log", (id) => readText(id, "agent.log"))).data;
  const all = commands ?? [];
  const [at, setAt] = useState<number>();
  const [playing, setPlaying] = useState(false);
  const length = Math.max(0, ...all.map((c) => c.at_ms + c.took_ms), (s.took_ms || 0) - s.detail.start_ms);
  const first = all[telling(all, s.verdict)]?.at_ms ?? 0;
  const linked = params.get("at"); // where an address leads
  const now = at ?? (linked === null ? first : Number(linked) || 0);
  const chosen = commandAt(all, now);
  const choose = (i: number) => {
    const c = all[i];
    if (c) {
      setPlaying(false);
      setAt(c.at_ms);
    }
  };

  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      const t = e.target as HTMLElement;
      if (
        e.ctrlKey ||
        e.metaKey ||
        e.altKey ||
        (["INPUT", "TEXTAREA", "SELECT"].includes(t.tagName) && t.getAttribute("type") !== "range")
      )
        return;
      if (e.key === " " && t.tagName !== "BUTTON") {
        e.preventDefault();
        setPlaying((p) => !p);
      }
      if (e.key === "ArrowRight") {
        e.preventDefault();
        choose(Math.min(all.length - 1, chosen + 1));
      }
      if (e.key === "ArrowLeft") {
        e.preventDefault();
        choose(Math.max(0, chosen - 1));
      }
      if (e.key === "n" || e.key === "N") {
        const next = all.findIndex((c, i) => i > chosen && c.error);
        choose(next >= 0 ? next : all.findIndex((c) => c.error));
      }
    };
    window.addEventListener("keydown", key);
    return () => {
      window.removeEventListener("keydown", key);
    };
  });
  const lacking = (kind: string) =>
    (s.detail.lacking ?? []).find((x) => x.kind === kind)?.reason ??
    (s.detail.record?.[kind as keyof typeof s.detail.record] === "unless-passed" && s.verdict === "passed"
      ? "it is kept unless the session passed, and this one did"
      : "it was not asked for");
  const not = (what: string, kind: string) => (
    <p className="p-6 text-center text-soft">
      {what} is not kept of this session: {lacking(kind)}.{" "}
      <code className="font-mono text-ink">
        pane record {s.project} {kind}=always
      </code>{" "}
      asks for it in the whole project.
    </p>
  );
  const tabs: [string, string, ReactNode][] = [
    [
      "network",
      `Network${network ? ` (${network.length})` : ""}`,
      network ? (
        <Network
          entries={network}
          at={now}
          onAt={(ms) => {
            setPlaying(false);
            setAt(ms);
          }}
        />
      ) : (
        not("The network", "network")
      ),
    ],
    [
      "console",
      `Console${console ? ` (${console.length})` : ""}`,
      console ? (
        <Console
          lines={console}
          at={now}
          onAt={(ms) => {
            setPlaying(false);
            setAt(ms);
          }}
        />
      ) : (
        not("The console", "console")
      ),
    ],
    ["driver", "Driver log", driver ? <Log raw={driver} /> : not("The driver's log", "logs")],
    [
      "agent",
      "Agent log",
      agent ? <Log raw={agent} /> : <p className="p-6 text-center text-soft">The agent left no log.</p>,
    ],
    ["capabilities", "Capabilities", <Capabilities key="c" session={s} />],
    ["facts", "Facts and files", <Facts key="f" session={s} />],
    ["note", s.note ? "Note ●" : "Note", <Note key="n" session={s} />],
  ];
  return (
    <>
      <div className="grid gap-4 lg:grid-cols-[minmax(0,8fr)_minmax(0,5fr)]">
        <Sheet>
          <Player
            session={s}
            commands={all}
            length={length}
            at={now}
            playing={playing}
            onAt={setAt}
            onPlaying={setPlaying}
          />
        </Sheet>
        <Sheet>
          <Commands
            commands={all}
            chosen={chosen}
            onChoose={choose}
            empty={s.opened_at ? "They are not kept of this session." : `The session never opened: ${s.end}.`}
          />
        </Sheet>
      </div>
      <Sheet>
        <Tabs.Root
          value={params.get("show") ?? (network ? "network" : "facts")}
          onValueChange={(v) => {
            setParams({ show: v }, { replace: true });
          }}
        >
          <Tabs.List
            aria-label="What else was recorded"
            className="flex flex-wrap gap-1 border-b border-line px-3 py-1.5"
          >
            {tabs.map(([key, title]) => (
              <Tabs.Trigger
                key={key}
                value={key}
                className="rounded px-3 py-1.5 text-sm text-soft hover:text-ink data-[state=active]:bg-raised data-[state=active]:text-ink"
              >
                {title}
              </Tabs.Trigger>
            ))}
          </Tabs.List>
          {tabs.map(([key, , body]) => (
            <Tabs.Content key={key} value={key}>
              {body}
            </Tabs.Content>
          ))}
        </Tabs.Root>
      </Sheet>
    </>
  );
}
