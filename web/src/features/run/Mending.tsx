import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { get, type AgedLocator, type AgedLocators, type Run } from "../../api/client";
import { Glass } from "../../ui/Glass";
import { Button, Copyable, Sheet, Trouble } from "../../ui/parts";
import { many, sure } from "../../ui/words";
import { TestLink } from "./TestLink";

/** Which locators find nothing any more, and what finds their elements now? */
export function Mending({ run }: { run: Run }) {
  const ended = run.state === "ended";
  const [shown, setShown] = useState(false);
  const found = useQuery({
    queryKey: ["mending", run.number, run.state],
    queryFn: () => get<AgedLocators>(`/runs/${run.number}/mending`),
    enabled: ended && run.kind === "script",
  });
  if (found.error) return <Trouble error={found.error} again={() => void found.refetch()} />;
  const all = found.data?.locators ?? [];
  if (!found.data || all.length === 0) return null;
  const { patch, left } = found.data;
  return (
    <Sheet
      title={`${many(all.length, "locator")} ${all.length === 1 ? "finds" : "find"} nothing any more`}
      aside={
        patch && (
          <Button
            className="text-xs"
            aria-expanded={shown}
            onClick={() => {
              setShown(!shown);
            }}
          >
            {shown ? "Hide the patch" : "Patch for the scripts"}
          </Button>
        )
      }
    >
      <ul aria-label="Locators that find nothing any more">
        {all.map((l) => (
          <Line key={`${l.at.file} ${l.at.line} ${l.at.column}`} run={run} l={l} />
        ))}
      </ul>
      {shown && (
        <div className="border-t border-line px-4 py-3">
          <Copyable text={patch} label="Copy the patch" />
        </div>
      )}
      {left.map((why) => (
        <p key={why} className="border-t border-line px-4 py-2 text-sm text-soft">
          Not in the patch: {why}
        </p>
      ))}
    </Sheet>
  );
}

function Line({ run, l }: { run: Run; l: AgedLocator }) {
  const cell = l.cells[0];
  return (
    <li className="grid grid-cols-[auto_1fr] gap-x-3 border-t border-line px-4 py-3 first:border-t-0">
      <Glass fill={l.failed > 0 ? "failed" : "flaky"} size={18} />
      <div className="min-w-0">
        <p className="font-medium break-words">
          <Code>{l.was}</Code>{" "}
          <span className="text-sm font-normal text-soft">
            {l.at.file}:{l.at.line}
          </span>
        </p>
        <p className="break-words">
          {l.now ? (
            <>
              now <Code>{l.now}</Code>
            </>
          ) : (
            "nothing finds its element alone now: give it a mark for tests"
          )}
          {l.also.map((o) => (
            <span key={o}>
              , elsewhere <Code>{o}</Code>
            </span>
          ))}
        </p>
        <p className="text-sm break-words text-soft">
          {l.element} is the same element with {sure(l.sure)}, the next one with {sure(l.next)}. As before:{" "}
          {l.same.join(", ")}
          {l.other.length > 0 && `; changed: ${l.other.join(", ")}`}.
        </p>
        <p className="text-sm text-soft">
          {[
            l.failed > 0 && `${many(l.failed, "cell")} failed for want of it`,
            l.accepted > 0 && `${many(l.accepted, "cell")} went on with it`,
          ]
            .filter(Boolean)
            .join(", ")}
          , in{" "}
          {cell && (
            <TestLink
              run={run.number}
              test={cell.test}
              pane={cell.pane}
              className="text-accent hover:underline"
            >
              {l.tests[0]}
            </TestLink>
          )}
          {l.tests.length > 1 && ` and ${many(l.tests.length - 1, "other")}`}
        </p>
      </div>
    </li>
  );
}

function Code({ children }: { children: string }) {
  return <code className="font-mono text-[0.92em]">{children}</code>;
}
