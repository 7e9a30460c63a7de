import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { get, type Cause, type Causes as Found, type Run } from "../../api/client";
import { Glass, inkOf } from "../../ui/Glass";
import { Button, Sheet, Trouble } from "../../ui/parts";
import { many } from "../../ui/words";
import { Key, Standing } from "../defects/Filed";
import { useShared } from "../pass/useShared";
import { TestLink } from "./TestLink";

/** What the failures of a run come from; asked anew while it goes on. */
export function useCauses(run: Run) {
  const bad = ["failed", "flaky", "lab-fault"].reduce((n, v) => n + (run.counts[v] ?? 0), 0);
  return useQuery({
    queryKey: ["causes", run.number, run.state, bad],
    queryFn: () => get<Found>(`/runs/${run.number}/causes`),
    enabled: bad > 0,
    placeholderData: keepPreviousData,
  });
}

/** Causes that are shown at first. */
const first = 5;

/** What went wrong, each cause once, the weightiest first. */
export function Causes({
  run,
  found,
  chosen,
  onChoose,
}: {
  run: Run;
  found: ReturnType<typeof useCauses>;
  chosen: string | null;
  onChoose: (id: string) => void;
}) {
  const [all, setAll] = useState(false);
  if (found.error) return <Trouble error={found.error} again={() => void found.refetch()} />;
  const causes = found.data?.causes ?? [];
  if (causes.length === 0 || !found.data) return null;
  return (
    <Sheet
      title={`${many(found.data.failed, "failing cell")}, ${many(causes.length, "cause")}`}
      aside={
        found.data.before > 0 && (
          <Link
            className="text-sm text-accent hover:underline"
            to={`/compare?was=${found.data.before}&is=${run.number}`}
          >
            Against #{found.data.before}
          </Link>
        )
      }
    >
      <ul aria-label="Causes">
        {causes.slice(0, all ? causes.length : first).map((c) => (
          <CauseLine
            key={c.id}
            run={run}
            cause={c}
            pressed={c.id === chosen}
            onChoose={() => {
              onChoose(c.id);
            }}
          />
        ))}
      </ul>
      {causes.length > first && !all && (
        <footer className="border-t border-line px-4 py-2.5">
          <Button
            onClick={() => {
              setAll(true);
            }}
          >
            Show the other {causes.length - first}
          </Button>
        </footer>
      )}
    </Sheet>
  );
}

const fillOfCause = (c: Cause) =>
  c.kind === "lab" ? "lab-fault" : c.flaky === c.failed ? "flaky" : "failed";

/** Tests and combinations that a line names; the others are counted. */
const named = 3;

function CauseLine({
  run,
  cause: c,
  pressed,
  onChoose,
}: {
  run: Run;
  cause: Cause;
  pressed: boolean;
  onChoose: () => void;
}) {
  const fill = fillOfCause(c);
  const shared = useShared();
  const where = c.sentence.lastIndexOf(": fails in ");
  const what = where < 0 ? c.sentence : c.sentence.slice(0, where);
  const how = where < 0 ? "" : c.sentence.slice(where + 2);
  const cells = new Map<number, number>(); // a pane of each test
  for (const at of c.cells) if (!cells.has(at.test)) cells.set(at.test, at.pane);
  return (
    <li className="grid grid-cols-[auto_1fr_auto] gap-x-3 border-t border-line px-4 py-3 first:border-t-0">
      <Glass fill={fill} size={18} />
      <div className="min-w-0">
        <p className="font-medium break-words">
          <Link className="hover:underline" to={`/runs/${run.number}/causes/${c.id}`}>
            {what}
          </Link>{" "}
          <News cause={c} />
        </p>
        <p className="break-words">{how}</p>
        <p className="mt-0.5 text-sm break-words text-soft">
          <span className={inkOf[fill]}>{c.kind}</span>: {c.reason}. {c.tests.length > 1 && "In "}
          {c.tests.length > 1 &&
            [...cells].slice(0, named).map(([test, pane], i) => (
              <span key={test}>
                {i > 0 && ", "}
                <TestLink run={run.number} test={test} pane={pane} className="text-accent hover:underline">
                  {run.tests[test]?.name}
                </TestLink>
              </span>
            ))}
          {c.tests.length > named && ` and ${c.tests.length - named} more. `}
          {c.first && c.runs > 1 && (
            <>
              {" "}
              Since{" "}
              <Link className="text-accent hover:underline" to={`/runs/${c.first.run}`}>
                #{c.first.run}
              </Link>
              , in {many(c.runs, "run")}.
            </>
          )}
        </p>
        <p className="text-sm break-words text-soft">
          On{" "}
          {c.cells
            .filter((at, i) => c.cells.findIndex((o) => o.pane === at.pane) === i)
            .slice(0, 2 * named)
            .map((at, i) => (
              <span key={at.pane}>
                {i > 0 && ", "}
                <TestLink
                  run={run.number}
                  test={at.test}
                  pane={at.pane}
                  className="text-accent hover:underline"
                >
                  {run.panes[at.pane]?.label}
                </TestLink>
              </span>
            ))}
          {c.panes.length > 2 * named && ` and ${c.panes.length - 2 * named} more`}
        </p>
        <p className="flex gap-4 text-sm text-soft">
          {!shared &&
            (c.defect ? (
              <span>
                Defect <Key defect={c.defect} />, <Standing defect={c.defect} />
              </span>
            ) : (
              <Link className="text-accent hover:underline" to={`/runs/${run.number}/causes/${c.id}#defect`}>
                File a defect
              </Link>
            ))}
          {run.panes.length > 1 && c.cells[0] && (
            <Link
              className="text-accent hover:underline"
              to={`/runs/${run.number}/tests/${c.cells[0].test}/beside?left=${c.cells[0].pane}`}
            >
              Beside a combination that passes
            </Link>
          )}
        </p>
        {c.evidence.slice(0, named).map((e) => (
          <p key={`${e.kind} ${e.text}`} className="truncate text-sm text-soft" title={e.text}>
            {{ console: "Console", request: "Network", slow: "Network", page: "The page" }[e.kind]} of {e.in}{" "}
            of {e.of} that fail
            {e.passed > 0 && ` and of none of ${e.passed} that pass`}:{" "}
            <Link
              className="font-mono text-xs text-accent hover:underline"
              to={
                e.kind === "page"
                  ? `/runs/${run.number}/tests/${c.cells[0]?.test ?? 0}/beside?left=${c.cells[0]?.pane ?? 0}`
                  : `/sessions/${e.session}?show=${e.kind === "console" ? "console" : "network"}&at=${Math.round(e.at_ms)}`
              }
            >
              {e.text}
            </Link>
          </p>
        ))}
      </div>
      <div>
        <Button className="text-xs" aria-pressed={pressed} onClick={onChoose}>
          {pressed ? "Whole wall" : "On the wall"}
        </Button>
      </div>
    </li>
  );
}

/** What is new of a cause. */
export function News({ cause: c }: { cause: Cause }) {
  if (c.news === "known") return <span className="text-sm font-normal text-soft">known</span>;
  const text = c.news === "back" ? "back again" : c.since_green ? "new since the last green run" : "new";
  return (
    <span className={`text-sm font-normal ${inkOf[c.news === "back" ? "flaky" : "failed"]}`}>{text}</span>
  );
}
