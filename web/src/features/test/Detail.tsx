import { clsx } from "clsx";
import { Link } from "react-router";
import { type Attempt, fileAddress, type PaneAttempts } from "../../api/client";
import { sure, took } from "../../ui/words";
import { TryLocator } from "./TryLocator";

/** What happened in one step of one attempt: message, screenshot, files. */
export function Detail({
  result,
  attempt,
  step,
}: {
  result: PaneAttempts;
  attempt: Attempt | undefined;
  step: number;
}) {
  if (!attempt) {
    return (
      <p className="px-4 py-8 text-center text-soft">
        {result.cell.why ||
          (result.cell.state === "ended"
            ? "There was no attempt."
            : `This test is ${result.cell.state} here.`)}
      </p>
    );
  }
  const own = attempt.detail.steps[step];
  const message = own?.message ?? (attempt.detail.steps.length === 0 ? attempt.message : "");
  // A step without a picture of its own is best told by the next one taken.
  const shot =
    own?.shot ??
    attempt.detail.steps.slice(step).find((s) => s.shot)?.shot ??
    attempt.detail.steps.findLast((s) => s.shot)?.shot;
  const { applied, missing } = attempt.detail.emulated;
  return (
    <div className="grid gap-3 p-4">
      {own && (
        <p>
          <span className="text-soft">
            Step {step + 1}, line {own.at.line}:
          </span>{" "}
          {own.title}{" "}
          <span className="text-soft">
            {own.state === "unrun"
              ? "was not reached"
              : `${own.state} after ${took(own.took_ms)}, ${took(own.start_ms)} into the test`}
          </span>
        </p>
      )}
      {own?.over_ms !== undefined && (
        <p className="text-sm text-flaky">Slow: it took longer than its limit of {took(own.over_ms)}.</p>
      )}
      {own?.matched && <p className="text-xs text-soft">On the element {own.matched}</p>}
      {message && (
        <pre
          className={clsx(
            "overflow-x-auto whitespace-pre-wrap rounded border px-3 py-2 font-mono text-xs",
            attempt.verdict === "skipped" ? "border-line" : "border-failed/40",
          )}
        >
          {message}
        </pre>
      )}
      {own?.aged && (
        <p className="text-sm">
          {own.aged.accepted
            ? "The step went on with what is certainly the same element: "
            : "What it found before is probably "}
          {own.aged.element} ({sure(own.aged.sure)}; as before: {own.aged.same.join(", ")})
          {own.aged.now && (
            <>
              . Now <code className="font-mono text-xs">{own.aged.now}</code> finds it
            </>
          )}
          .
        </p>
      )}
      {shot && (
        <figure className="grid gap-1">
          <a href={fileAddress(attempt.id, shot)} target="_blank" rel="noreferrer">
            <img
              className="max-h-[26rem] max-w-full rounded border border-line bg-white"
              src={fileAddress(attempt.id, shot)}
              alt={`Screenshot ${shot}`}
            />
          </a>
          <figcaption className="text-xs text-soft">
            {shot}
            {own?.shot === shot ? "" : ", taken at another step"}
          </figcaption>
        </figure>
      )}
      {own?.page && <TryLocator key={`${attempt.id} ${step}`} attempt={attempt} step={own} shot={shot} />}
      <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1 text-xs">
        <dt className="text-soft">Ran on</dt>
        <dd>
          {attempt.agent}, {attempt.detail.browser} {attempt.detail.version}, attempt {attempt.number},{" "}
          {took(attempt.took_ms)}
          {attempt.detail.start_ms > 0 && ` (browser there after ${took(attempt.detail.start_ms)})`}
        </dd>
        {applied.length > 0 && (
          <>
            <dt className="text-soft">Emulated</dt>
            <dd>{applied.join(", ")}</dd>
          </>
        )}
        {missing.length > 0 && (
          <>
            <dt className="text-soft">Not emulated</dt>
            <dd className="text-flaky">{missing.map((m) => `${m.feature} (${m.reason})`).join(", ")}</dd>
          </>
        )}
        <dt className="text-soft">{attempt.sessions.length > 1 ? "Sessions" : "Session"}</dt>
        <dd className="flex flex-wrap gap-x-3">
          {attempt.sessions.map((id, i) => (
            <Link key={id} className="text-accent hover:underline" to={`/sessions/${id}`}>
              {i > 0 && `${i + 1}: `}commands, console, network and logs
            </Link>
          ))}
          {attempt.sessions.length === 0 && "none was opened"}
        </dd>
        <dt className="text-soft">Files</dt>
        <dd className="flex flex-wrap gap-x-3">
          {attempt.files.map((f) => (
            <a
              key={f.name}
              className="text-accent hover:underline"
              href={fileAddress(attempt.id, f.name)}
              target="_blank"
              rel="noreferrer"
            >
              {f.name}
            </a>
          ))}
        </dd>
      </dl>
    </div>
  );
}
