import { useQuery } from "@tanstack/react-query";
import { type ReactNode } from "react";
import { Link } from "react-router";
import {
  get,
  type Change,
  type Compared,
  type KnownSuite,
  type RunSummary,
  type Sides,
  type Slower,
} from "../../api/client";
import { type Fill, Glass } from "../../ui/Glass";
import { Button, Choice, Empty, Heads, Sheet, Trouble, Waiting } from "../../ui/parts";
import { Find } from "../../ui/Find";
import { Tabs } from "../../ui/Tabs";
import { useFilters } from "../../ui/useFilters";
import { useNow } from "../../ui/useNow";
import { useTitle } from "../../ui/useTitle";
import { ago, many, took } from "../../ui/words";
import { TestLink } from "../run/TestLink";
import { trendPages } from "../trends/pages";
import { SideField } from "./SideField";

type Filters = ReturnType<typeof useFilters>;

/** What is different: in a run against another, between environments, versions, or files? */
export function ComparePage() {
  const filters = useFilters();
  const [was, is] = [filters.value("was"), filters.value("is")];
  const of = new URLSearchParams();
  for (const name of ["project", "suite"]) if (filters.value(name)) of.set(name, filters.value(name));
  const sides = useQuery({
    queryKey: ["sides", of.toString()],
    queryFn: () => get<Sides>(`/sides?${of}`),
    retry: false,
  });
  const suites = useQuery({ queryKey: ["suites"], queryFn: () => get<KnownSuite[]>("/suites") });
  const q = new URLSearchParams(of);
  q.set("was", was);
  q.set("is", is);
  const found = useQuery({
    queryKey: ["compare", q.toString()],
    queryFn: () => get<Compared>(`/compare?${q}`),
    enabled: was !== "",
    retry: false,
  });
  useTitle(found.data?.words ?? "Compare");
  const known = sides.data?.sides ?? [];
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <Tabs label="Trends" pages={trendPages} />
      <div className="flex flex-wrap items-end gap-3">
        <SideField
          label="Compare"
          value={is}
          known={known}
          hint="the newest run"
          onSet={(v) => {
            filters.set("is", v);
          }}
        />
        <SideField
          label="against"
          value={was}
          known={known}
          hint="a run, or env=staging"
          onSet={(v) => {
            filters.set("was", v);
          }}
        />
        <Choice
          label="Suite"
          value={filters.value("suite") && `${filters.value("project")} ${filters.value("suite")}`}
          onChange={(v) => {
            const [project = "", suite = ""] = v.split(" ");
            filters.setAll({ project, suite, was: "", is: "" });
          }}
          options={[
            ["", "suite of the newest run"],
            ...(suites.data ?? []).map((s): [string, string] => [
              `${s.project} ${s.suite}`,
              `${s.project} ${s.suite}`,
            ]),
          ]}
        />
        <div className="ml-auto">{found.data && <Find filters={filters} label="Find test" size={20} />}</div>
      </div>
      {was === "" ? (
        <KnownSides found={sides} filters={filters} />
      ) : found.isPending ? (
        <Waiting />
      ) : found.error ? (
        <Trouble error={found.error} again={() => void found.refetch()} />
      ) : (
        <Differences c={found.data} filters={filters} />
      )}
    </div>
  );
}

/** What there is to compare. */
function KnownSides({
  found,
  filters,
}: {
  found: { data: Sides | undefined; error: Error | null; isPending: boolean };
  filters: Filters;
}) {
  const now = useNow(false);
  if (found.isPending) return <Waiting />;
  if (found.error || !found.data || found.data.sides.length === 0)
    return (
      <Sheet>
        <Empty title="No run has ended yet that could be compared">
          Start one with <code className="font-mono text-ink">pane run</code>.
        </Empty>
      </Sheet>
    );
  return (
    <Sheet title={`What of ${found.data.project} ${found.data.suite} can be compared`}>
      <table className="w-full text-left text-sm">
        <Heads of={["What", "In words", "Newest run", "Made", ""]} />
        <tbody>
          {found.data.sides.map((s) => (
            <tr key={s.words} className="border-t border-line">
              <td className="px-4 py-1.5">{s.about}</td>
              <td className="px-4 py-1.5 font-mono text-xs">{s.words}</td>
              <td className="px-4 py-1.5">
                <Link className="text-accent hover:underline" to={`/runs/${s.run}`}>
                  #{s.run}
                </Link>
              </td>
              <td className="px-4 py-1.5 text-soft">{ago(s.at, now)}</td>
              <td className="px-4 py-1.5">
                <div className="flex justify-end gap-2">
                  <Button
                    className="text-xs"
                    aria-pressed={filters.value("is") === s.words}
                    onClick={() => {
                      filters.set("is", s.words);
                    }}
                  >
                    Compare
                  </Button>
                  <Button
                    className="text-xs"
                    onClick={() => {
                      filters.set("was", s.words);
                    }}
                  >
                    Against
                  </Button>
                </div>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </Sheet>
  );
}

function Differences({ c, filters }: { c: Compared; filters: Filters }) {
  const text = filters.value("text").toLowerCase();
  const has = (test: string) => test.toLowerCase().includes(text);
  const narrow = <T extends { test: string }>(all: T[]) => all.filter((x) => has(x.test));
  const shown = [c.broke, c.mended, c.otherwise, c.lab].map(narrow);
  const [broke = [], mended = [], otherwise = [], lab = []] = shown;
  const nothing =
    shown.every((l) => l.length === 0) &&
    [c.slower, c.faster].every((l) => narrow(l).length === 0) &&
    [c.added, c.gone, c.added_in, c.gone_in, c.renamed].every((l) => l.length === 0);
  return (
    <>
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
      </div>
      {nothing && (
        <Sheet>
          <Empty title={text ? "No test is like that" : "Nothing is different"}>
            {text ? "Clear the search to see what is different." : "Choose another side to compare with."}
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
          ["Renamed", c.renamed.map((r) => `${r.was} → ${r.is}`).filter(has)],
        ]}
      />
    </>
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
