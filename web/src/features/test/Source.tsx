import { clsx } from "clsx";
import { useEffect, useRef } from "react";

/** The script as it was run, with the chosen step's line marked. */
export function Source({
  text,
  line,
  failed,
  onLine,
}: {
  text: string;
  line: number;
  failed: boolean;
  onLine: (line: number) => void;
}) {
  const marked = useRef<HTMLLIElement>(null);
  useEffect(() => {
    marked.current?.scrollIntoView({ block: "nearest" });
  }, [line]);
  return (
    <ol className="max-h-[32rem] overflow-auto py-2 font-mono text-xs leading-6">
      {text
        .trimEnd()
        .split("\n")
        .map((content, i) => (
          <li
            key={i}
            ref={i + 1 === line ? marked : undefined}
            aria-current={i + 1 === line ? "step" : undefined}
            className={clsx(
              "border-l-2",
              i + 1 === line
                ? failed
                  ? "border-failed bg-failed/10"
                  : "border-accent bg-raised"
                : "border-transparent",
            )}
          >
            <button
              type="button"
              className="flex w-full gap-3 px-3 text-left"
              onClick={() => {
                onLine(i + 1);
              }}
            >
              <span className="w-6 shrink-0 text-right text-soft">{i + 1}</span>
              <span className="whitespace-pre">{content || " "}</span>
            </button>
          </li>
        ))}
    </ol>
  );
}
