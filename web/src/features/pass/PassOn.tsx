import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { get, type Run, type Words } from "../../api/client";
import { Panel } from "../../ui/Panel";
import { Share } from "./Share";
import { useShared } from "./useShared";
import { Button, Copyable, Trouble, Waiting } from "../../ui/parts";

type Wording = "text" | "markdown" | "html";
const wordings: [Wording, string][] = [
  ["text", "Text"],
  ["markdown", "Markdown"],
  ["html", "HTML"],
];

const forms: [string, string][] = [
  ["html", "A page that needs no network, with pictures and filters"],
  ["pdf", "PDF, printed by an agent's Chromium"],
  ["xlsx", "Workbook: run, combinations, causes, results"],
  ["csv", "CSV: a row for each test and combination"],
  ["junit", "JUnit XML"],
  ["tap", "TAP"],
  ["summary", "Markdown, for the summary of a CI job"],
];

/** How does somebody else hear of this run? In words to paste, and as files. */
export function PassOn({ run }: { run: Run }) {
  const shared = useShared();
  return (
    <Panel
      title={`Pass run #${run.number} on`}
      about="In words to paste, as a link, or as a file for others."
      trigger={<Button>Pass on</Button>}
    >
      <InWords number={run.number} />
      {!shared && <Share of={{ kind: "run", run: run.number }} />}
      {!shared && run.kind === "script" && (
        <Share
          title="As a badge: how the suite stands, on pages elsewhere"
          of={{ kind: "badge", project: run.project, suite: run.suite }}
        />
      )}
      <section>
        <h3 className="mb-2 text-sm text-soft">As a file</h3>
        <ul className="grid gap-1.5 text-sm">
          {forms
            .filter(([form]) => !shared || form !== "pdf")
            .map(([form, what]) => (
              <li key={form} className="grid grid-cols-[5rem_1fr] gap-3">
                <a
                  className="text-accent hover:underline"
                  href={`/api/v1/runs/${run.number}/as/${form}`}
                  download
                >
                  {form}
                </a>
                <span className="text-soft">{what}</span>
              </li>
            ))}
        </ul>
      </section>
    </Panel>
  );
}

function InWords({ number }: { number: number }) {
  const [as, setAs] = useState<Wording>("text");
  const found = useQuery({
    queryKey: ["words", number],
    queryFn: () => get<Words>(`/runs/${number}/words`),
    staleTime: 0,
  });
  if (found.isPending) return <Waiting />;
  if (found.error) return <Trouble error={found.error} again={() => void found.refetch()} />;
  return (
    <section className="grid gap-2">
      <div role="group" aria-label="In which form" className="flex gap-1">
        {wordings.map(([form, name]) => (
          <Button
            key={form}
            className={`text-xs ${as === form ? "border-accent" : "text-soft"}`}
            aria-pressed={as === form}
            onClick={() => {
              setAs(form);
            }}
          >
            {name}
          </Button>
        ))}
      </div>
      <Copyable label="Copy the words" text={found.data[as].trimEnd()} />
    </section>
  );
}
