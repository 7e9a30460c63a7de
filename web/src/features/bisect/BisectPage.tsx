import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { get, post, type Bisect, type BisectTry } from "../../api/client";
import { fillOf, Glass } from "../../ui/Glass";
import { Button, Confirm, Sheet, Trouble, Waiting } from "../../ui/parts";
import { useNow } from "../../ui/useNow";
import { useTitle } from "../../ui/useTitle";
import { ago, many } from "../../ui/words";
import { shortName } from "./names";

/** Where does this test begin to fail? */
export function BisectPage() {
  const { id = "" } = useParams();
  const queries = useQueryClient();
  const now = useNow(false);
  const search = useQuery({
    queryKey: ["bisect", id],
    queryFn: () => get<Bisect>(`/bisects/${id}`),
    refetchInterval: (q) => (q.state.data?.ended_at ? false : 1000),
  });
  const end = useMutation({
    mutationFn: () => post<Bisect>(`/bisects/${id}/end`),
    onSettled: () => queries.invalidateQueries({ queryKey: ["bisect", id] }),
  });
  useTitle(search.data && `What broke ${search.data.test}`);
  if (search.isPending) return <Waiting />;
  if (search.error) return <Trouble error={search.error} again={() => void search.refetch()} />;
  const b = search.data;
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <div className="flex flex-wrap items-start gap-3">
        <div>
          <p className="text-sm text-soft">
            <Link className="text-accent hover:underline" to={`/runs/${b.run}`}>
              Run #{b.run}
            </Link>{" "}
            on {b.label}, along {b.axis === "bundle" ? "the suite's files" : "the browser's versions"}; by{" "}
            {b.by} {ago(b.started_at, now)}
          </p>
          <h1 className="text-lg font-semibold">{b.test}</h1>
        </div>
        {!b.ended_at && (
          <span className="ml-auto">
            <Confirm
              title="End this search?"
              text="The try that runs goes on; nothing is tried after it."
              action="End it"
              onYes={() => {
                end.mutate();
              }}
            >
              <Button>End it</Button>
            </Confirm>
          </span>
        )}
      </div>
      {end.error && <Trouble error={end.error} />}
      <Sheet title={b.answer ? "Answer" : "Looking"}>
        <p className="px-4 py-3" aria-live="polite">
          {b.answer
            ? `It ${b.answer.words}.`
            : `Not known yet, after ${many(b.tries.filter((t) => t.verdict).length, "try").replace("trys", "tries")}.`}
        </p>
        {b.answer?.last_try && b.answer.first_try && (
          <div className="grid gap-3 px-4 pb-4 md:grid-cols-2">
            <Side b={b} t={b.answer.last_try} />
            <Side b={b} t={b.answer.first_try} />
          </div>
        )}
      </Sheet>
      <Sheet title={`${b.candidates.length} to look among, oldest first`}>
        <ol className="divide-y divide-line">
          {b.candidates.map((c) => (
            <li
              key={c}
              className={`flex flex-wrap items-center gap-3 px-4 py-1.5 text-sm ${c === b.answer?.first ? "border-t-2 border-t-accent!" : ""}`}
            >
              <span className="w-44 font-mono text-xs tabular-nums">{shortName(b, c)}</span>
              <span className="flex flex-wrap gap-1.5">
                {b.tries
                  .filter((t) => t.candidate === c)
                  .map((t, i) => (
                    <Link
                      key={i}
                      to={t.session ? `/sessions/${t.session}` : `/runs/${t.run}`}
                      title={`run #${t.run}`}
                      className="inline-flex"
                    >
                      <Glass fill={fillOf(t.verdict ? "ended" : "running", t.verdict)} size={17} />
                    </Link>
                  ))}
              </span>
            </li>
          ))}
        </ol>
      </Sheet>
    </div>
  );
}

/** The newest try on one side, to be opened beside the other. */
function Side({ b, t }: { b: Bisect; t: BisectTry }) {
  return (
    <Link
      to={t.session ? `/sessions/${t.session}` : `/runs/${t.run}`}
      className="flex items-center gap-3 rounded border border-line p-3 hover:border-accent"
    >
      <Glass fill={fillOf("ended", t.verdict)} size={28} />
      <span>
        <span className="block font-mono">{shortName(b, t.candidate)}</span>
        <span className="block text-xs text-soft">
          {t.verdict} in run #{t.run}: open its session
        </span>
      </span>
    </Link>
  );
}
