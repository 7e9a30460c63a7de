import { useQuery } from "@tanstack/react-query";
import { type ReactNode } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { get, type Change, type Compared, type RunSummary, type Slower } from "../../api/client";
import { type Fill, Glass, said } from "../../ui/Glass";
import { Choice, Empty, Sheet, Trouble, Waiting } from "../../ui/parts";
import { Find } from "../../ui/Find";
import { useFilters } from "../../ui/useFilters";
import { useTitle } from "../../ui/useTitle";
import { many, took } from "../../ui/words";
import { TestLink } from "./TestLink";

/** What is different in this run? */
export function AgainstPage() {
  const { number = "", other = "" } = useParams();
  const filters = useFilters();
  const go = useNavigate();
  const found = useQuery({
    queryKey: ["against", number, other],
    queryFn: () => get<Compared>(`/runs/${number}/against/${other}`),
  });
  const project = found.data?.is.project;
  const runs = useQuery({
    queryKey: ["runs", "of", project],
    queryFn: () =>
      get<RunSummary[]>(`/runs?limit=100&state=ended&project=${encodeURIComponent(project ?? "")}`),
    enabled: project !== undefined,
  });
  useTitle(`#${number} against #${other}`);
  if (found.isPending) return <Waiting />;
  if (found.error) return <Trouble error={found.error} again={() => void found.refetch()} />;
  const c = found.data;
  const text = filters.value("text").toLowerCase();
  const has = (test: string) => test.toLowerCase().includes(text);
  const narrow = <T extends { test: string }>(all: T[]) => all.filter((x) => has(x.test));
  const shown = [c.broke, c.mended, c.otherwise, c.lab].map(narrow);
  const [broke = [], mended = [], otherwise = [], lab = []] = shown;
  const nothing =
    shown.every((l) => l.length === 0) &&
    [c.slower, c.faster].every((l) => narrow(l).length === 0) &&
    [c.added, c.gone, c.added_in, c.gone_in].every((l) => l.length === 0);
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <div className="flex flex-wrap items-center gap-x-5 gap-y-2">
        <div>
          <h1 className="text-lg font-semibold">{c.words}</h1>
          <p className="text-sm text-soft">
            <Link className="text-accent hover:underline" to={`/runs/${c.is.number}`}>
              #{c.is.number}
            </Link>{" "}
            {about(c.is)}, against{" "}
            <Link className="text-accent hover:underline" to={`/runs/${c.was.number}`}>
              #{c.was.number}
            </Link>{" "}
            {about(c.was)}. {many(c.cells, "cell")} ran in both.
            {(c.pace > 1.1 || (c.pace > 0 && c.pace < 0.9)) &&
              ` Everything takes ${c.pace.toFixed(2)} times as long; what is slower is so beyond that.`}
          </p>
        </div>
        <div className="ml-auto flex gap-2">
          <Find filters={filters} label="Find test" size={20} />
          <Choice
            label="Against run"
            value={other}
            onChange={(v) => void go(`/runs/${number}/against/${v}`)}
            options={(runs.data ?? [c.was])
              .filter((r) => String(r.number) !== number)
              .map((r) => [String(r.number), `against #${r.number} ${r.suite}, ${said(r.verdict)}`])}
          />
        </div>
      </div>
      {nothing && (
        <Sheet>
          <Empty title={text ? "No test is like that" : "Nothing is different"}>
            {text ? "Clear the search to see what is different." : "Choose another run to compare with."}
          </Empty>
        </Sheet>
      )}
      <Changes title="Broke" fill="failed" run={c.is.number} all={broke}>
        {c.causes.map((x) => (
          <p key={x.id} className="border-t border-line px-4 py-2.5 text-sm first:border-t-0">
            <span className="text-soft">cause </span>
            <Link className="hover:underline" to={`/runs/${c.is.number}?cause=${x.id}`}>
              {x.sentence}
            </Link>
          </p>
        ))}
      </Changes>
      <Changes title="Mended" fill="passed" run={c.is.number} all={mended} />
      <Changes title="Fails of another cause" fill="failed" run={c.is.number} all={otherwise} />
      <Changes title="Lab fault in one of them" fill="lab-fault" run={c.is.number} all={lab} />
      <Paces title="Slower" all={narrow(c.slower)} />
      <Paces title="Faster" all={narrow(c.faster)} />
      <Lists
        of={[
          ["Tests added", c.added.filter(has)],
          ["Tests gone", c.gone.filter(has)],
          ["Combinations added", c.added_in],
          ["Combinations gone", c.gone_in],
        ]}
      />
    </div>
  );
}

const about = (r: RunSummary) => `${r.suite}${r.environment && `, ${r.environment}`}, by ${r.by}`;

function Changes({
  title,
  fill,
  run,
  all,
  children,
}: {
  title: string;
  fill: Fill;
  run: number;
  all: Change[];
  children?: ReactNode;
}) {
  if (all.length === 0) return null;
  const tests = new Map<string, Change[]>();
  for (const c of all) tests.set(c.test, [...(tests.get(c.test) ?? []), c]);
  return (
    <Sheet title={`${title}: ${many(all.length, "cell")} of ${many(tests.size, "test")}`}>
      {children}
      <ul>
        {[...tests].map(([test, cells]) => (
          <li
            key={test}
            className="grid grid-cols-[auto_1fr] gap-x-3 border-t border-line px-4 py-2.5 first:border-t-0"
          >
            <Glass fill={fill} size={16} />
            <div className="min-w-0">
              <p className="font-medium">{test}</p>
              <p className="text-sm text-soft">
                on{" "}
                {cells.map((c, i) => (
                  <span key={c.at.pane}>
                    {i > 0 && ", "}
                    <TestLink
                      run={run}
                      test={c.at.test}
                      pane={c.at.pane}
                      className="text-accent hover:underline"
                    >
                      {c.pane}
                    </TestLink>
                  </span>
                ))}
              </p>
              {cells[0]?.message && (
                <p className="truncate font-mono text-xs text-soft" title={cells[0].message}>
                  {cells[0].message.split("\n")[0]}
                </p>
              )}
            </div>
          </li>
        ))}
      </ul>
    </Sheet>
  );
}

function Paces({ title, all }: { title: string; all: Slower[] }) {
  if (all.length === 0) return null;
  const most = Math.max(...all.map((s) => Math.max(s.was_ms, s.is_ms)));
  return (
    <Sheet title={`${title}: ${many(all.length, "test")}`}>
      <ul>
        {all.map((s) => (
          <li
            key={`${s.test} ${s.panes.join()}`}
            className="grid grid-cols-[minmax(0,1fr)_16rem_11rem] items-center gap-4 border-t border-line px-4 py-2 first:border-t-0"
          >
            <div className="min-w-0">
              <p className="truncate">{s.test}</p>
              {s.panes.length > 0 && <p className="truncate text-sm text-soft">on {s.panes.join(", ")}</p>}
            </div>
            <div className="grid gap-0.5" aria-hidden="true">
              <span className="h-1.5 rounded-full bg-soft" style={{ width: `${(100 * s.was_ms) / most}%` }} />
              <span
                className="h-1.5 rounded-full bg-accent"
                style={{ width: `${(100 * s.is_ms) / most}%` }}
              />
            </div>
            <p className="text-right text-sm tabular-nums">
              {took(s.was_ms)} → {took(s.is_ms)}
            </p>
          </li>
        ))}
      </ul>
    </Sheet>
  );
}

function Lists({ of }: { of: [string, string[]][] }) {
  return of
    .filter(([, all]) => all.length > 0)
    .map(([title, all]) => (
      <Sheet key={title} title={`${title}: ${all.length}`}>
        <ul className="columns-2 px-4 py-2.5 text-sm">
          {all.map((x) => (
            <li key={x} className="truncate py-0.5">
              {x}
            </li>
          ))}
        </ul>
      </Sheet>
    ));
}
