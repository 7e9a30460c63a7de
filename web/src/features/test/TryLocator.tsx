import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { type SyntheticEvent, useState } from "react";
import { fileAddress, get, type Attempt, type Located, type StepResult } from "../../api/client";
import { Button, Copyable, Field, Trouble } from "../../ui/parts";

/** What would another locator have found on the page as it was? */
export function TryLocator({
  attempt,
  step,
  shot,
}: {
  attempt: Attempt;
  step: StepResult;
  shot: string | undefined;
}) {
  const [text, setText] = useState(step.aged?.now ?? "");
  const [tried, setTried] = useState("");
  const found = useQuery({
    queryKey: ["located", attempt.id, step.page, tried],
    queryFn: () =>
      get<Located>(
        `/attempts/${attempt.id}/pages/${encodeURIComponent(step.page ?? "")}?${new URLSearchParams({
          locator: tried,
          test: step.at.file,
          step: `${step.at.line}:${step.at.column}`,
        })}`,
      ),
    enabled: tried !== "",
    placeholderData: keepPreviousData,
  });
  const submit = (e: SyntheticEvent) => {
    e.preventDefault();
    setTried(text);
  };
  const l = found.data;
  const own = shot !== undefined && step.shot === shot;
  return (
    <section aria-label="Try another locator" className="grid gap-3 rounded border border-line p-3">
      <form className="flex items-end gap-3" onSubmit={submit}>
        <Field
          label="Try another locator on the page as it was"
          size={44}
          placeholder="{role: button, name: Hold}"
          value={text}
          onChange={(e) => {
            setText(e.target.value);
          }}
        />
        <Button type="submit" disabled={text === "" || found.isFetching}>
          Try
        </Button>
      </form>
      {found.error && <Trouble error={found.error} />}
      {l && tried !== "" && (
        <>
          <p role="status">{l.words}</p>
          {l.found.length > 0 && (
            <ol className="grid gap-1 text-xs">
              {l.found.map((e, i) => (
                <li key={i} className="grid grid-cols-[1.5rem_1fr] break-words">
                  <span className="text-soft">{i + 1}.</span>
                  <span>
                    <span className="font-mono">
                      &lt;{e.tag}&gt; {e.name || e.label || e.text}
                    </span>{" "}
                    <span className="text-soft">
                      {e.hidden
                        ? `hidden: ${e.hidden}`
                        : `at ${e.place?.slice(0, 2).join(", ")}${e.covered ? `, covered by ${e.covered}` : ""}`}
                    </span>
                    {e.better && (
                      <>
                        {" "}
                        <button
                          type="button"
                          className="font-mono text-accent hover:underline"
                          onClick={() => {
                            setText(e.better);
                            setTried(e.better);
                          }}
                        >
                          {e.better}
                        </button>
                      </>
                    )}
                  </span>
                </li>
              ))}
            </ol>
          )}
          {own && l.visible > 0 && (
            <div className="relative max-w-md overflow-hidden rounded border border-line bg-white">
              <img className="w-full" src={fileAddress(attempt.id, shot)} alt="The page as it was" />
              {l.found.map((e, i) => {
                const [left = 0, top = 0, width = 0, height = 0] = e.place ?? [];
                return e.hidden ? null : (
                  <span
                    key={i}
                    className="absolute border-2 border-failed"
                    style={{
                      left: `${(100 * (left - l.left)) / l.width}%`,
                      top: `${(100 * (top - l.top)) / l.height}%`,
                      width: `${(100 * width) / l.width}%`,
                      height: `${(100 * height) / l.height}%`,
                    }}
                  />
                );
              })}
            </div>
          )}
          {l.lines && <Copyable text={l.lines} label="The step with this locator" />}
        </>
      )}
    </section>
  );
}
