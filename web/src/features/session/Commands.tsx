import { useEffect, useRef, useState } from "react";
import { Empty, Field } from "../../ui/parts";
import { took } from "../../ui/words";
import { type Command, gist } from "./recorded";

/** What went wrong: the error's code, and what the driver says of it. */
function told(c: Command): string {
  const [first = ""] = (c.message ?? "").split("\n");
  return first.startsWith(c.error ?? "") ? first : `${c.error ?? ""}${first && `: ${first}`}`;
}

/** The commands, with the one of the moment marked and told in full. */
export function Commands({
  commands,
  chosen,
  onChoose,
  empty,
}: {
  commands: Command[];
  chosen: number;
  onChoose: (i: number) => void;
  empty: string;
}) {
  const [text, setText] = useState("");
  const list = useRef<HTMLOListElement>(null);
  useEffect(() => {
    const box = list.current;
    const row = box?.querySelector<HTMLElement>("[aria-current=true]");
    if (!box || !row) return; // the list is scrolled, never the page
    if (row.offsetTop < box.scrollTop || row.offsetTop + row.offsetHeight > box.scrollTop + box.clientHeight)
      box.scrollTop = row.offsetTop - box.clientHeight / 2;
  }, [chosen, commands.length]);
  if (commands.length === 0) return <Empty title="No commands">{empty}</Empty>;
  const own = commands[chosen];
  return (
    <div className="grid h-[33rem] grid-rows-[auto_minmax(0,1fr)_auto]">
      <div className="border-b border-line p-2">
        <Field
          label="Find command, argument or error"
          value={text}
          onChange={(e) => {
            setText(e.target.value);
          }}
          className="w-full"
        />
      </div>
      <ol ref={list} className="relative overflow-y-auto text-sm">
        {commands.map(
          (c, i) =>
            `${c.name} ${c.path} ${JSON.stringify(c.arguments ?? "")} ${c.error ?? ""} ${c.message ?? ""}`
              .toLowerCase()
              .includes(text.toLowerCase()) && (
              <li key={c.number}>
                <button
                  type="button"
                  aria-current={i === chosen}
                  onClick={() => {
                    onChoose(i);
                  }}
                  className={`grid w-full grid-cols-[4.5rem_minmax(0,1fr)_4rem] items-baseline gap-2 border-l-2 px-2 py-1 text-left ${i === chosen ? "border-accent bg-raised" : "border-transparent hover:bg-raised/50"}`}
                >
                  <span className="text-right text-xs text-soft">{took(c.at_ms)}</span>
                  <span className="truncate">
                    <span className={c.error ? "text-failed" : ""}>{c.name}</span>
                    {c.by && <span className="ml-1 text-xs text-flaky">by {c.by}</span>}{" "}
                    <span className="font-mono text-xs text-soft">{gist(c)}</span>
                  </span>
                  <span className="text-right text-xs text-soft">{took(c.took_ms)}</span>
                </button>
              </li>
            ),
        )}
      </ol>
      {own && (
        <div className="max-h-48 overflow-y-auto border-t border-line p-3 text-xs">
          <p className="font-medium">
            {own.number}. {own.name}{" "}
            <span className="font-mono font-normal text-soft">
              {own.method} {own.path || "/"}
            </span>
          </p>
          {own.error && <p className="mt-1 whitespace-pre-wrap text-failed">{told(own)}</p>}
          {own.arguments !== undefined && (
            <pre className="mt-1 overflow-x-auto font-mono whitespace-pre-wrap text-soft">
              {JSON.stringify(own.arguments, null, 1)}
            </pre>
          )}
          {!own.error && own.result !== undefined && own.result !== null && (
            <pre className="mt-1 overflow-x-auto font-mono whitespace-pre-wrap">
              → {JSON.stringify(own.result)}
            </pre>
          )}
        </div>
      )}
    </div>
  );
}
