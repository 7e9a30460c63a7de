import { useState } from "react";
import { Empty, Field } from "../../ui/parts";
import { took } from "../../ui/words";
import type { Line } from "./recorded";

const ink: Record<string, string> = { error: "text-failed", warn: "text-flaky", debug: "text-soft" };

/** The console's messages and the pages' errors. */
export function Console({ lines, at, onAt }: { lines: Line[]; at: number; onAt: (ms: number) => void }) {
  const [text, setText] = useState("");
  if (lines.length === 0)
    return <Empty title="The console is empty">No page wrote to it, and no error was left uncaught.</Empty>;
  return (
    <div>
      <div className="border-b border-line p-2">
        <Field
          label="Find in the console"
          value={text}
          onChange={(e) => {
            setText(e.target.value);
          }}
          className="w-80"
        />
      </div>
      <ol className="max-h-[28rem] overflow-y-auto font-mono text-xs">
        {lines
          .filter((l) => `${l.level} ${l.text} ${l.address ?? ""}`.toLowerCase().includes(text.toLowerCase()))
          .map((l, i) => (
            <li key={i}>
              <button
                type="button"
                onClick={() => {
                  onAt(l.at_ms);
                }}
                className={`grid w-full grid-cols-[4.5rem_3.5rem_minmax(0,1fr)_auto] gap-2 px-3 py-1 text-left hover:bg-raised ${l.at_ms > at ? "opacity-60" : ""}`}
              >
                <span className="text-right text-soft">{took(l.at_ms)}</span>
                <span className={ink[l.level] ?? ""}>{l.level}</span>
                <span className={`whitespace-pre-wrap ${ink[l.level] ?? ""}`}>
                  {l.source === "javascript" && "uncaught: "}
                  {l.text}
                </span>
                <span className="text-soft">
                  {l.address && `${l.address.replace(/^.*\//, "/")}:${l.row ?? ""}`}
                </span>
              </button>
            </li>
          ))}
      </ol>
    </div>
  );
}

/** A log as it was written, with search. */
export function Log({ raw }: { raw: string }) {
  const [text, setText] = useState("");
  const all = raw.split("\n");
  const shown = text === "" ? all : all.filter((l) => l.toLowerCase().includes(text.toLowerCase()));
  return (
    <div>
      <div className="flex items-center gap-3 border-b border-line p-2 text-xs text-soft">
        <Field
          label="Find in the log"
          value={text}
          onChange={(e) => {
            setText(e.target.value);
          }}
          className="w-80"
        />
        {text && `${shown.length} of ${all.length} lines`}
      </div>
      <pre className="max-h-[28rem] overflow-auto px-3 py-2 font-mono text-xs leading-5 whitespace-pre-wrap">
        {shown.join("\n")}
      </pre>
    </div>
  );
}
