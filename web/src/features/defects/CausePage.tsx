import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { get, type CausePage as Page } from "../../api/client";
import { fillOf, Glass } from "../../ui/Glass";
import { Heads, Sheet, Trouble, Waiting } from "../../ui/parts";
import { Panel } from "../../ui/Panel";
import { Button } from "../../ui/parts";
import { useTitle } from "../../ui/useTitle";
import { took } from "../../ui/words";
import { Notes } from "../pass/Notes";
import { Share } from "../pass/Share";
import { useShared } from "../pass/useShared";
import { News } from "../run/Causes";
import { FileDefect } from "./FileDefect";

/** What is this one cause, where is it, and who mends it? */
export function CausePage() {
  const { number = "", cause = "" } = useParams();
  const run = Number(number);
  const shared = useShared();
  const key = ["causes", run, "page", cause];
  const found = useQuery({
    queryKey: key,
    queryFn: () => get<Page>(`/runs/${run}/causes/${encodeURIComponent(cause)}`),
  });
  useTitle(`A cause in #${run}`);
  if (found.isPending) return <Waiting />;
  if (found.error) return <Trouble error={found.error} again={() => void found.refetch()} />;
  const { cause: c, cells, pictures } = found.data;
  const where = c.sentence.lastIndexOf(": fails in ");
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <header className="flex items-start gap-4">
        <div className="min-w-0">
          <p className="text-sm text-soft">
            A cause in{" "}
            {shared?.kind === "cause" ? (
              `run #${run}`
            ) : (
              <Link className="text-accent hover:underline" to={`/runs/${run}?cause=${c.id}`}>
                run #{run}
              </Link>
            )}{" "}
            of {found.data.run.project} {found.data.run.suite}
          </p>
          <h1 className="text-lg font-semibold break-words">
            {where < 0 ? c.sentence : c.sentence.slice(0, where)} <News cause={c} />
          </h1>
          {where >= 0 && <p className="break-words">{c.sentence.slice(where + 2)}</p>}
          <p className="mt-1 text-sm text-soft">
            {c.kind}: {c.reason}.
            {found.data.step && (
              <>
                {" "}
                At the step “{found.data.step}”
                {found.data.file && (
                  <span className="font-mono">
                    {" "}
                    ({found.data.file}:{found.data.line})
                  </span>
                )}
                .
              </>
            )}
          </p>
        </div>
        {!shared && (
          <div className="ml-auto shrink-0">
            <Panel
              title="Pass this cause on"
              about="As a link, for others."
              trigger={<Button>Pass on</Button>}
            >
              <Share of={{ kind: "cause", run, cause: c.id }} />
            </Panel>
          </div>
        )}
      </header>
      {!shared && <FileDefect run={run} cause={c} queryKey={key} />}
      <Sheet title="What it says">
        <pre className="max-h-72 overflow-auto px-4 py-3 font-mono text-xs whitespace-pre-wrap">
          {c.message}
        </pre>
      </Sheet>
      {pictures.length > 0 && (
        <Sheet title="The page when it failed">
          <ul className="flex flex-wrap items-start gap-4 p-4">
            {pictures.map((p) => (
              <li key={`${p.attempt} ${p.name}`} className="max-w-72">
                <a href={picture(p)} target="_blank" rel="noreferrer">
                  <img
                    src={picture(p)}
                    alt={`${p.test} on ${p.label}`}
                    className="max-h-60 max-w-full rounded border border-line"
                  />
                </a>
                <p className="mt-1 text-xs text-soft">
                  {p.test}, {p.label}
                </p>
              </li>
            ))}
          </ul>
        </Sheet>
      )}
      <Sheet title={`Where: ${c.failed} of ${c.of + c.else_of} cells`}>
        <table className="w-full text-left text-sm">
          <Heads of={["", "Test", "Combination", "Took", "Agent", ""]} />
          <tbody>
            {cells.map((x) => (
              <tr key={`${x.pane} ${x.test}`} className="border-t border-line">
                <td className="py-1.5 pl-4">
                  <Glass fill={fillOf(x.state, x.verdict)} size={16} />
                </td>
                <td className="px-4 py-1.5">
                  <Link
                    className="text-accent hover:underline"
                    to={`/runs/${run}/tests/${x.test}?pane=${x.pane}`}
                  >
                    {x.name}
                  </Link>
                </td>
                <td className="px-4 py-1.5">{x.label}</td>
                <td className="px-4 py-1.5 text-soft tabular-nums">{took(x.took_ms)}</td>
                <td className="px-4 py-1.5 text-soft">{x.agent}</td>
                <td className="px-4 py-1.5 text-right">
                  {x.session && (
                    <Link className="text-accent hover:underline" to={`/sessions/${x.session}`}>
                      Session
                    </Link>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        {c.failed > cells.length && (
          <p className="border-t border-line px-4 py-2 text-sm text-soft">
            and {c.failed - cells.length} more, on the wall of the run.
          </p>
        )}
      </Sheet>
      {!shared && <Notes run={run} cause={c.title} about={[["the cause", { kind: "cause", cause: c.id }]]} />}
    </div>
  );
}

const picture = (p: { attempt: string; name: string }) =>
  `/api/v1/attempts/${p.attempt}/files/${encodeURIComponent(p.name)}`;
