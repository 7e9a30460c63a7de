import { clsx } from "clsx";
import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "react-router";
import { get, type Beside, type BesideSide, type BesideStep } from "../../api/client";
import { type Fill, Glass, said } from "../../ui/Glass";
import { Choice, Empty, Sheet, Trouble, Waiting } from "../../ui/parts";
import { useFilters } from "../../ui/useFilters";
import { useTitle } from "../../ui/useTitle";
import { many, took } from "../../ui/words";
import { Pictures } from "./Pictures";

const stepFill: Record<string, Fill> = {
  passed: "passed",
  failed: "failed",
  "lab-fault": "lab-fault",
  skipped: "skipped",
  unrun: "queued",
};

/** What is different about this test in two combinations? */
export function BesidePage() {
  const { number = "", test = "" } = useParams();
  const filters = useFilters();
  const go = useNavigate();
  const asked = new URLSearchParams();
  for (const name of ["left", "right"]) if (filters.value(name)) asked.set(name, filters.value(name));
  const found = useQuery({
    queryKey: ["beside", number, test, asked.toString()],
    queryFn: () => get<Beside>(`/runs/${number}/tests/${test}/beside?${asked}`),
  });
  useTitle(found.data && `${found.data.test.name}, side by side`, `#${number}`);
  if (found.isPending) return <Waiting />;
  if (found.error) return <Trouble error={found.error} again={() => void found.refetch()} />;
  const b = found.data;
  const chosen = filters.value("row");
  const row = Math.min(
    chosen === "" ? Math.max(0, b.first, b.first < 0 ? b.at : -1) : Number(chosen),
    b.rows.length - 1,
  );
  const options: [string, string][] = b.others.map((o) => [
    String(o.pane),
    `${o.label}: ${said(o.verdict) || "open"}`,
  ]);
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <div className="flex flex-wrap items-center gap-x-5 gap-y-2">
        <div>
          <p className="text-sm text-soft">
            <Link className="text-accent hover:underline" to={`/runs/${number}`}>
              Run #{number}
            </Link>{" "}
            {b.run.project} {b.run.suite},{" "}
            <Link
              className="text-accent hover:underline"
              to={`/runs/${number}/tests/${test}?pane=${b.left.pane}`}
            >
              all combinations
            </Link>
          </p>
          <h1 className="text-lg font-semibold">{b.test.name}</h1>
        </div>
        <div className="ml-auto flex items-center gap-2 text-sm">
          <Choice
            label="On the left"
            value={String(b.left.pane)}
            options={options}
            onChange={(v) => {
              filters.set("left", v);
            }}
          />
          <button
            type="button"
            className="rounded border border-line px-2 py-1.5 hover:border-accent"
            aria-label="Change sides"
            onClick={() =>
              void go(`?left=${b.right.pane}&right=${b.left.pane}${chosen && `&row=${chosen}`}`, {
                replace: true,
              })
            }
          >
            ⇄
          </button>
          <Choice
            label="On the right"
            value={String(b.right.pane)}
            options={options}
            onChange={(v) => {
              filters.set("right", v);
            }}
          />
        </div>
      </div>
      <p className="text-base">
        {b.words}
        {b.unlike.length > 0 && (
          <span className="text-sm text-soft"> The combinations differ in {b.unlike.join(", ")}.</span>
        )}
      </p>
      <div className="grid gap-4 xl:grid-cols-[minmax(0,5fr)_minmax(0,6fr)]">
        <Steps
          b={b}
          row={row}
          onChoose={(i) => {
            filters.set("row", String(i));
          }}
        />
        <Pictures
          b={b}
          row={row}
          view={filters.value("view")}
          onView={(v) => {
            filters.set("view", v);
          }}
        />
      </div>
      <Page b={b} />
      <div className="grid gap-4 lg:grid-cols-2">
        <Console b={b} />
        <Requests b={b} />
      </div>
    </div>
  );
}

function Steps({ b, row, onChoose }: { b: Beside; row: number; onChoose: (row: number) => void }) {
  return (
    <Sheet className="self-start">
      <table className="w-full text-left" aria-label="Steps beside each other">
        <thead>
          <tr className="align-bottom text-xs text-soft">
            <th className="px-4 py-2 font-normal">Step</th>
            {[b.left, b.right].map((s, i) => (
              <th key={i} className="w-[27%] px-2 py-2 font-normal">
                <Side side={s} run={b.run.number} test={b.test.index} />
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {b.rows.map((r, i) => (
            <tr
              key={i}
              className={clsx(
                "border-t border-line align-top",
                i === row && "bg-raised",
                i === b.first && "shadow-[inset_3px_0_0_var(--failed)]",
              )}
            >
              <td className="px-4 py-1.5">
                <button
                  type="button"
                  aria-pressed={i === row}
                  className="text-left hover:underline"
                  onClick={() => {
                    onChoose(i);
                  }}
                >
                  {r.title}
                </button>
                {i === b.first && <p className="text-xs text-failed">the first difference</p>}
              </td>
              <Step step={r.l} slow={r.differs.includes("time")} other={r.r} />
              <Step step={r.r} slow={r.differs.includes("time")} other={r.l} />
            </tr>
          ))}
        </tbody>
      </table>
      {b.rows.length === 0 && (
        <Empty title="No steps are told">
          A program of its own carries this test out: its output and its session say more.
        </Empty>
      )}
      {[b.left, b.right]
        .filter((s) => s.message !== "")
        .map((s) => (
          <div key={s.pane} className="border-t border-line px-4 py-2.5">
            <p className="text-xs text-soft">{s.label}</p>
            <pre className="overflow-x-auto font-mono text-xs whitespace-pre-wrap">{s.message}</pre>
          </div>
        ))}
    </Sheet>
  );
}

function Side({ side, run, test }: { side: BesideSide; run: number; test: number }) {
  return (
    <span className="grid gap-0.5">
      <span className="flex items-center gap-1.5 text-ink">
        <Glass fill={side.verdict as Fill} size={14} /> {side.label}
      </span>
      <span>
        {side.browser} {side.version}
      </span>
      <span>
        {took(side.took_ms)} on {side.agent},{" "}
        <Link
          className="text-accent hover:underline"
          to={side.session ? `/sessions/${side.session}` : `/runs/${run}/tests/${test}?pane=${side.pane}`}
        >
          {side.session ? "session" : "attempt"}
        </Link>
      </span>
    </span>
  );
}

function Step({ step, slow, other }: { step: BesideStep | null; slow: boolean; other: BesideStep | null }) {
  if (!step) return <td className="px-2 py-1.5 text-xs text-soft">no such step</td>;
  const element = (s: string) => s.split(" visible at ")[0];
  const another =
    other !== null &&
    step.matched !== "" &&
    other.matched !== "" &&
    element(step.matched) !== element(other.matched);
  return (
    <td className="px-2 py-1.5">
      <span className="flex items-center gap-1.5">
        <Glass fill={stepFill[step.state] ?? "queued"} size={14} label={step.state} />
        <span className={clsx("text-xs", slow && other && step.took_ms > other.took_ms && "text-flaky")}>
          {step.state === "unrun" ? "not reached" : took(step.took_ms)}
        </span>
      </span>
      {step.matched && (
        <span className={clsx("block text-xs break-words", another ? "text-failed" : "text-soft")}>
          {step.matched}
        </span>
      )}
    </td>
  );
}

/** Of which side something was not kept; empty where it was of both. */
function lacks(b: Beside, what: string): string {
  const of = b.lacking.filter((l) => l.startsWith(what)).map((l) => l.replace(`${what} of `, ""));
  return of.length > 0 ? `Not kept of ${of.join(" and ")}` : "";
}

const kinds: Record<string, string> = {
  "only-here": "here only",
  "only-there": "there only",
  hidden: "hidden here",
  shown: "shown here",
  covered: "covered here",
  uncovered: "covered there",
  beyond: "beyond the edge",
  moved: "moved",
};

function Page({ b }: { b: Beside }) {
  return (
    <Sheet
      title={
        b.at >= 0
          ? `The page at step ${b.at + 1}: ${many(b.page.length, "difference")}`
          : "What the pages are made of"
      }
    >
      {b.at < 0 ? (
        <Empty title="No pages to compare">{b.why}</Empty>
      ) : b.page.length === 0 ? (
        <Empty title="The pages are made of the same elements">
          In the same places, and nothing is hidden or covered on one side only.
        </Empty>
      ) : (
        <ul aria-label="Differences of the page">
          {b.page.map((d, i) => (
            <li
              key={i}
              className="grid grid-cols-[8rem_1fr_auto] gap-x-3 border-t border-line px-4 py-1.5 first:border-t-0"
            >
              <span className="text-sm text-soft">{kinds[d.kind] ?? d.kind}</span>
              <span className="min-w-0 break-words">
                <span className="font-mono text-xs">{d.element}</span> {d.text}
                {d.role && <span className="text-sm text-soft"> ({d.role})</span>}
              </span>
              <span className="text-xs text-soft">
                {place(d.here)} | {place(d.there)}
              </span>
            </li>
          ))}
        </ul>
      )}
    </Sheet>
  );
}

function place(p: number[] | null): string {
  if (!p || p.every((n) => n === 0)) return "–";
  const [left, top, width, height] = p;
  return `${left},${top} ${width}×${height}`;
}

function Console({ b }: { b: Beside }) {
  return (
    <Sheet title="Console" className="self-start">
      {b.console.length === 0 ? (
        <Empty title={lacks(b, "console") || "No errors and no warnings"}>
          {lacks(b, "console") ? "It is compared where both were kept." : "Both consoles were quiet."}
        </Empty>
      ) : (
        <ul>
          {b.console.map((l, i) => (
            <li
              key={i}
              className="grid grid-cols-[5rem_1fr] gap-x-3 border-t border-line px-4 py-1.5 first:border-t-0"
            >
              <span className="text-sm text-soft">{side(l.left_ms >= 0, l.right_ms >= 0)}</span>
              <Link
                className="font-mono text-xs break-words hover:underline"
                to={`/sessions/${l.left_ms >= 0 ? b.left.session : b.right.session}?show=console&at=${Math.round(l.left_ms >= 0 ? l.left_ms : l.right_ms)}`}
              >
                {l.text}
              </Link>
            </li>
          ))}
        </ul>
      )}
    </Sheet>
  );
}

const side = (left: boolean, right: boolean): string => (left && right ? "both" : left ? "left" : "right");

function Requests({ b }: { b: Beside }) {
  const answer = (status: number, ms: number) => (status < 0 ? "–" : `${status}, ${took(ms)}`);
  return (
    <Sheet title="Requests" className="self-start">
      {b.requests.length === 0 ? (
        <Empty title={lacks(b, "network") || "Nothing was asked for"}>
          {lacks(b, "network")
            ? "Record the network of passing tests too (--record network=always) to compare them."
            : "Neither side made a request."}
        </Empty>
      ) : (
        <table className="w-full text-left">
          <thead>
            <tr className="text-xs text-soft">
              <th className="px-4 py-2 font-normal">Request</th>
              <th className="px-2 py-2 font-normal">{b.left.label}</th>
              <th className="px-2 py-2 font-normal">{b.right.label}</th>
            </tr>
          </thead>
          <tbody>
            {b.requests.map((q, i) => (
              <tr
                key={i}
                className={clsx("border-t border-line", q.left === q.right && !q.slow && "text-soft")}
              >
                <td className="px-4 py-1 font-mono text-xs break-all">
                  {q.method} {q.path}
                </td>
                <td className={clsx("px-2 py-1 text-xs", q.slow === "left" && "text-flaky")}>
                  {answer(q.left, q.left_ms)}
                </td>
                <td className={clsx("px-2 py-1 text-xs", q.slow === "right" && "text-flaky")}>
                  {answer(q.right, q.right_ms)}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </Sheet>
  );
}
