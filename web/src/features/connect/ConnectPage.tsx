import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { get, type Device, type Snippets } from "../../api/client";
import { Choice, Copyable, Empty, Labelled, Sheet, Toggle, Trouble, Waiting } from "../../ui/parts";
import { Search } from "../../ui/Search";
import { many } from "../../ui/words";
import { useAgents } from "../fleet/queries";
import { useTitle } from "../../ui/useTitle";

const kinds = ["commands", "screenshots", "video", "network", "console", "logs", "downloads"];

/** How does my own runner reach this lab? Choose what the session needs; copy a program that really runs. */
export function ConnectPage() {
  useTitle("Your runner");
  const [params, setParams] = useSearchParams();
  const [language, setLanguage] = useState("shell");
  const agents = useAgents();
  const devices = useQuery({
    queryKey: ["devices"],
    queryFn: () => get<Device[]>("/devices"),
    staleTime: Infinity,
  });
  const q = new URLSearchParams(params);
  q.set("service", location.origin);
  const s = useQuery({
    queryKey: ["snippets", q.toString()],
    queryFn: () => get<Snippets>(`/snippets?${q}`),
    placeholderData: keepPreviousData,
  });
  const value = (name: string) => params.get(name) ?? "";
  const set = (name: string, v: string) => {
    setParams(
      (old) => {
        const next = new URLSearchParams(old);
        if (v) next.set(name, v);
        else next.delete(name);
        if (name === "browser") next.delete("version");
        return next;
      },
      { replace: true },
    );
  };
  if (agents.isPending) return <Waiting />;
  if (agents.error) return <Trouble error={agents.error} again={() => void agents.refetch()} />;
  const browsers = agents.data.flatMap((a) => a.machine.browsers.filter((b) => b.fits));
  const versions = [...new Set(browsers.filter((b) => b.name === value("browser")).map((b) => b.version))];
  const words = (xs: string[], any: string): [string, string][] => [
    ["", any],
    ...[...new Set(xs)].sort().map((x): [string, string] => [x, x]),
  ];
  const labels = agents.data.flatMap((a) => Object.entries(a.machine.labels).map(([k, v]) => `${k}=${v}`));
  const chosen = new Set(value("labels").split(" ").filter(Boolean));
  const recorded = new Set(value("record").split(" ").filter(Boolean));
  const flip = (name: string, all: Set<string>, word: string) => {
    if (all.has(word)) all.delete(word);
    else all.add(word);
    set(name, [...all].join(" "));
  };
  return (
    <div className="grid gap-4 lg:grid-cols-[minmax(0,2fr)_minmax(0,3fr)]">
      <Sheet title="What the session asks for">
        <div className="grid gap-3 p-4">
          <div className="grid grid-cols-2 gap-3">
            <Labelled label="Browser">
              <Choice
                label="Browser"
                value={value("browser")}
                onChange={(v) => {
                  set("browser", v);
                }}
                options={words(
                  browsers.map((b) => b.name),
                  "any",
                )}
              />
            </Labelled>
            <Labelled label="Version">
              <Choice
                label="Version"
                value={value("version")}
                onChange={(v) => {
                  set("version", v);
                }}
                options={[
                  ["", "any"],
                  ["latest", "latest"],
                  ["latest-1", "the one before the latest"],
                  ...words(versions, "").slice(1),
                ]}
              />
            </Labelled>
            <Labelled label="System">
              <Choice
                label="System"
                value={value("os")}
                onChange={(v) => {
                  set("os", v);
                }}
                options={words(
                  agents.data.map((a) => a.machine.os),
                  "any",
                )}
              />
            </Labelled>
            <Labelled label="Device">
              <Choice
                label="Device"
                value={value("device")}
                onChange={(v) => {
                  set("device", v);
                }}
                options={[
                  ["", "as the browser opens"],
                  ...(devices.data ?? []).map((d): [string, string] => [
                    d.name,
                    `${d.title}, ${d.size.replace("x", "×")}`,
                  ]),
                ]}
              />
            </Labelled>
            <Labelled label="Window">
              <Choice
                label="Window"
                value={value("mode")}
                onChange={(v) => {
                  set("mode", v);
                }}
                options={[
                  ["", "none (headless)"],
                  ["headed", "headed"],
                ]}
              />
            </Labelled>
            <Labelled label="BiDi">
              <Choice
                label="BiDi"
                value={value("bidi")}
                onChange={(v) => {
                  set("bidi", v);
                }}
                options={[
                  ["", "not needed"],
                  ["yes", "webSocketUrl"],
                ]}
              />
            </Labelled>
            <Labelled label="Test">
              <Search
                label="its line on the wall"
                size={10}
                text={value("test")}
                onText={(v) => {
                  set("test", v);
                }}
              />
            </Labelled>
            <Labelled label="Run">
              <Search
                label="such as build 812"
                size={10}
                text={value("run")}
                onText={(v) => {
                  set("run", v);
                }}
              />
            </Labelled>
            <Labelled label="Project">
              <Search
                label="whose shares it uses"
                size={10}
                text={value("project")}
                onText={(v) => {
                  set("project", v);
                }}
              />
            </Labelled>
            <Labelled label="Page to look at">
              <Search
                label="address"
                size={10}
                text={value("address")}
                onText={(v) => {
                  set("address", v);
                }}
              />
            </Labelled>
          </div>
          {labels.length > 0 && (
            <Labelled label="Labels of the agent">
              <span className="flex flex-wrap gap-1.5">
                {[...new Set(labels)].sort().map((l) => (
                  <Toggle
                    extra
                    key={l}
                    on={chosen.has(l)}
                    onChange={() => {
                      flip("labels", chosen, l);
                    }}
                  >
                    {l}
                  </Toggle>
                ))}
              </span>
            </Labelled>
          )}
          <Labelled label="Way to the site" help="kbit/s and milliseconds; as fast as it is if empty">
            <Search
              text={value("traffic")}
              onText={(v) => {
                set("traffic", v);
              }}
              label="down=1500 up=750 delay=120"
              size={26}
            />
          </Labelled>
          <Labelled label="Relay" help="name of an open one; none if empty">
            <Search
              text={value("relay")}
              onText={(v) => {
                set("relay", v);
              }}
              label="name of a relay"
              size={16}
            />
          </Labelled>
          <Labelled label="Recorded besides what is usual">
            <span className="flex flex-wrap gap-1.5">
              {kinds.map((k) => (
                <Toggle
                  extra
                  key={k}
                  on={recorded.has(`${k}=always`)}
                  onChange={() => {
                    flip("record", recorded, `${k}=always`);
                  }}
                >
                  {k}
                </Toggle>
              ))}
            </span>
          </Labelled>
        </div>
      </Sheet>
      {s.isPending ? (
        <Waiting />
      ) : s.error ? (
        <Trouble error={s.error} again={() => void s.refetch()} />
      ) : (
        <div className="grid content-start gap-4">
          <Match s={s.data} fleet={agents.data.length} />
          <Sheet title="Address and capabilities">
            <div className="grid gap-3 p-4">
              <Copyable label="Address of the endpoint" text={s.data.endpoint} />
              <Copyable label="Capabilities" text={JSON.stringify(s.data.capabilities, null, 2)} />
              <p className="text-xs text-soft">
                A client that takes credentials in the address can use them: any name, and a token as the
                password. Keep the token in the environment, never in the code.
              </p>
            </div>
          </Sheet>
          <Sheet
            title="A whole program"
            aside={
              <div className="flex gap-1" role="group" aria-label="Language">
                {s.data.languages.map((l) => (
                  <button
                    key={l.name}
                    type="button"
                    aria-pressed={l.name === language}
                    onClick={() => {
                      setLanguage(l.name);
                    }}
                    className={`rounded border px-2 py-1 text-xs ${l.name === language ? "border-accent" : "border-line text-soft hover:text-ink"}`}
                  >
                    {l.title}
                  </button>
                ))}
              </div>
            }
          >
            <div className="p-4">
              <Copyable label="Program" text={s.data.code[language] ?? ""} />
            </div>
          </Sheet>
        </div>
      )}
    </div>
  );
}

/** Who could serve it now, or why nobody can. */
function Match({ s, fleet }: { s: Snippets; fleet: number }) {
  const { idle, busy, away } = s.agents;
  const n = idle.length + busy.length + Object.keys(away).length;
  if (fleet === 0)
    return (
      <Empty title="No agent has joined yet">
        On a machine with browsers, run <code className="font-mono text-ink">pane agent</code>.
      </Empty>
    );
  return (
    <p
      aria-live="polite"
      className={`rounded-md border px-4 py-3 ${n === 0 ? "border-failed/60 text-failed" : "border-line"}`}
    >
      {n === 0 ? (
        `Nobody can serve this: ${s.why}`
      ) : (
        <>
          <b className="font-medium">
            {n} of {many(fleet, "agent")}
          </b>{" "}
          could serve it:{" "}
          {[
            idle.length && `${idle.length} idle`,
            busy.length && `${busy.length} busy`,
            Object.keys(away).length && `${Object.keys(away).length} away`,
          ]
            .filter(Boolean)
            .join(", ")}
          .
        </>
      )}
    </p>
  );
}
