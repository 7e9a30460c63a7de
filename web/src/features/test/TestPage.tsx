import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { get, type Attempt, type PaneAttempts, type TestResult } from "../../api/client";
import { listen } from "../../api/events";
import { fillOf, Glass } from "../../ui/Glass";
import { Panel } from "../../ui/Panel";
import { Notes } from "../pass/Notes";
import { Share } from "../pass/Share";
import { useShared } from "../pass/useShared";
import { AskBisect } from "../bisect/AskBisect";
import { Button, Choice, Sheet, Trouble, Waiting } from "../../ui/parts";
import { Detail } from "./Detail";
import { Printed } from "./Printed";
import { Source } from "./Source";
import { StepGrid } from "./StepGrid";
import { useTitle } from "../../ui/useTitle";

/** The attempt a pane shows: the one asked for, else the one that explains its verdict. */
export function shownAttempt(r: PaneAttempts, number: number | null): Attempt | undefined {
  const asked = r.attempts.find((a) => a.number === number);
  if (asked) return asked;
  return r.cell.verdict === "flaky"
    ? r.attempts.find((a) => a.verdict === "failed")
    : r.attempts[r.attempts.length - 1];
}

/** The step that ended an attempt badly, else its first. */
function tellingStep(a: Attempt | undefined): number {
  return Math.max(0, a?.detail.steps.findIndex((s) => s.state === "failed" || s.state === "lab-fault") ?? 0);
}

/** Where does this test fail, and why? */
export function TestPage() {
  const { number = "", test = "" } = useParams();
  const [params, setParams] = useSearchParams();
  const queries = useQueryClient();
  const result = useQuery({
    queryKey: ["test", number, test],
    queryFn: () => get<TestResult>(`/runs/${number}/tests/${test}`),
  });
  useTitle(result.data?.test.name, `#${number}`);
  const shared = useShared();
  const open = result.data !== undefined && result.data.run.state !== "ended";
  useEffect(() => {
    if (!open) return;
    const refresh = () => void queries.invalidateQueries({ queryKey: ["test", number, test] });
    return listen(
      (e) => {
        if (e.run?.number !== Number(number)) return;
        if (e.type === "run" || e.whole || e.cells?.some((c) => String(c.test) === test)) refresh();
      },
      refresh,
      Number(number),
    );
  }, [number, test, open, queries]);
  if (result.isPending) return <Waiting />;
  if (result.error) return <Trouble error={result.error} again={() => void result.refetch()} />;

  const { run, tests, source } = result.data;
  const results = result.data.results.filter((r) => r.cell.state !== "undealt");
  const asked = Number(params.get("pane") ?? -1);
  const chosen =
    results.find((r) => r.pane.index === asked) ??
    results.find((r) => ["failed", "lab-fault", "flaky", "aside"].includes(r.cell.verdict)) ??
    results[0];
  if (!chosen) return null;
  const attemptNumber = params.has("attempt") ? Number(params.get("attempt")) : null;
  const attempt = shownAttempt(chosen, attemptNumber);
  const step = params.has("step") ? Number(params.get("step")) : tellingStep(attempt);
  const go = (next: Record<string, number>) => {
    setParams(
      (old) => {
        const p = new URLSearchParams(old);
        if ("pane" in next) p.delete("attempt");
        for (const [k, v] of Object.entries(next)) p.set(k, String(v));
        return p;
      },
      { replace: true },
    );
  };
  const stands = attempt?.detail.steps[step]?.at;
  const line = stands?.line ?? 0;
  const file = stands?.file && result.data.blocks[stands.file] ? stands.file : result.data.test.file;
  const at = result.data.test.index;
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <div className="flex flex-wrap items-center gap-3">
        <div>
          <p className="text-sm text-soft">
            <Link className="text-accent hover:underline" to={`/runs/${number}`}>
              Run #{number}
            </Link>{" "}
            {run.project} {run.suite}
          </p>
          <h1 className="text-lg font-semibold">{result.data.test.name}</h1>
        </div>
        <div className="ml-auto flex items-center gap-2">
          {results.filter((r) => r.attempts.length > 0).length > 1 && (
            <Link
              className="text-sm text-accent hover:underline"
              to={`/runs/${number}/tests/${at}/beside?left=${chosen.pane.index}`}
            >
              Beside another
            </Link>
          )}
          {!shared && chosen.cell.verdict === "failed" && (
            <Link
              className="text-sm text-accent hover:underline"
              to={`/aside?${new URLSearchParams({ project: run.project, suite: run.suite, test: result.data.test.name })}`}
            >
              Set aside
            </Link>
          )}
          {!shared && (
            <Panel
              title="Share this test"
              about="With somebody who has no account."
              trigger={<Button>Share</Button>}
            >
              <Share of={{ kind: "test", run: run.number, test: at }} />
            </Panel>
          )}
          {tests.length > 1 && (
            <Choice
              label="Go to test"
              value={String(at)}
              options={tests.map((t) => [String(t.index), t.name])}
              onChange={(v) => {
                location.assign(`/runs/${number}/tests/${v}`);
              }}
            />
          )}
          {tests.length > 1 && at > 0 && (
            <Link to={`/runs/${number}/tests/${at - 1}`}>
              <Button>Previous</Button>
            </Link>
          )}
          {at < tests.length - 1 && (
            <Link to={`/runs/${number}/tests/${at + 1}`}>
              <Button>Next</Button>
            </Link>
          )}
        </div>
      </div>
      <StepGrid
        results={results}
        chosen={chosen.pane.index}
        attempt={attemptNumber}
        step={step}
        onChoose={(pane, s) => {
          go({ pane, step: s });
        }}
      />
      <div className="grid gap-4 lg:grid-cols-[minmax(0,5fr)_minmax(0,4fr)]">
        <Sheet
          title={
            <span className="flex items-center gap-2">
              <Glass fill={fillOf(chosen.cell.state, chosen.cell.verdict)} />
              {chosen.pane.label}
            </span>
          }
          aside={
            chosen.attempts.length > 1 && (
              <div className="flex gap-1" role="group" aria-label="Attempts">
                {chosen.attempts.map((a) => (
                  <button
                    key={a.id}
                    type="button"
                    aria-pressed={a === attempt}
                    onClick={() => {
                      go({ attempt: a.number });
                    }}
                    className={`inline-flex items-center gap-1.5 rounded border px-2 py-1 text-xs ${a === attempt ? "border-accent" : "border-line"}`}
                  >
                    <Glass fill={fillOf("ended", a.verdict)} size={12} />
                    attempt {a.number}
                  </button>
                ))}
              </div>
            )
          }
        >
          <Detail result={chosen} attempt={attempt} step={step} />
          {!result.data.test.file.endsWith(".pane.yaml") && chosen.cell.state === "running" && (
            <Printed run={run.number} test={at} pane={chosen.pane.index} />
          )}
          {!shared && run.state === "ended" && run.kind !== "remote" && chosen.cell.verdict === "failed" && (
            <AskBisect run={run.number} test={result.data.test.name} pane={chosen.pane.key} />
          )}
        </Sheet>
        <Sheet title={<span className="font-mono text-sm font-normal">{file}</span>}>
          <Source
            text={result.data.blocks[file] ?? source}
            line={line}
            failed={attempt?.detail.steps[step]?.state === "failed"}
            onLine={(n) => {
              const i =
                attempt?.detail.steps.findLastIndex((s) => s.at.file === file && s.at.line <= n) ?? -1;
              if (i >= 0) go({ step: i });
            }}
          />
        </Sheet>
      </div>
      {!shared && (
        <Notes
          run={run.number}
          only={result.data.test.name}
          about={[["on this test", { kind: "test", test: at }]]}
        />
      )}
    </div>
  );
}
