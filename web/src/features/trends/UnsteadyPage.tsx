import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { get, type UnsteadyTest } from "../../api/client";
import { type Fill, GlassMark, said } from "../../ui/Glass";
import { Choice, Empty, Heads, Sheet, Trouble, Waiting } from "../../ui/parts";
import { Tabs } from "../../ui/Tabs";
import { Find } from "../../ui/Find";
import { useFilters } from "../../ui/useFilters";
import { useTitle } from "../../ui/useTitle";
import { took } from "../../ui/words";
import { Span } from "./Span";
import { trendPages } from "./pages";

/** Whose verdict cannot be relied on? */
export function UnsteadyPage() {
  useTitle("Unsteady tests");
  const filters = useFilters();
  const runs = filters.value("runs") || "30";
  const found = useQuery({
    queryKey: ["unsteady", runs],
    queryFn: () => get<UnsteadyTest[]>(`/unsteady?runs=${encodeURIComponent(runs)}`),
  });
  const text = filters.value("text").toLowerCase();
  const all = (found.data ?? []).filter((t) =>
    `${t.test} ${t.project} ${t.suite} ${t.in.map((p) => p.label).join(" ")}`.toLowerCase().includes(text),
  );
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <Tabs label="Trends" pages={trendPages} />
      <Sheet
        title="Tests whose verdict changes without their files, the most wasteful first"
        aside={
          <div className="flex gap-2">
            <Find filters={filters} label="Find test, suite, combination" size={28} />
            <Choice
              label="Runs looked at"
              value={runs}
              onChange={(v) => {
                filters.set("runs", v);
              }}
              options={["10", "30", "100", "200"].map((n) => [n, `last ${n} runs of each suite`])}
            />
          </div>
        }
      >
        {found.isPending ? (
          <Waiting />
        ) : found.error ? (
          <Trouble error={found.error} again={() => void found.refetch()} />
        ) : all.length === 0 ? (
          text ? (
            <Empty title="No unsteady test is like that">Clear the search to see them all.</Empty>
          ) : (
            <Empty title="No test is unsteady">
              None passed only when it was run again, nor failed and passed with the same files. Runs with{" "}
              <code className="font-mono text-ink">--retries 1</code> find out.
            </Empty>
          )
        ) : (
          <table className="w-full text-left text-sm">
            <Heads
              of={["Test", "On", "Off", "Rate, and where it is with 95 %", "Wasted", "Runs, oldest first"]}
            />
            <tbody>
              {all.map((t) =>
                t.in.map((p, i) => (
                  <tr
                    key={`${t.project} ${t.suite} ${t.test} ${p.key}`}
                    className={i === 0 ? "border-t border-line align-top" : "align-top"}
                  >
                    <td className="px-4 py-1.5">
                      {i === 0 && (
                        <>
                          <span className="font-medium">{t.test}</span>
                          <span className="block text-xs text-soft">
                            {t.project} {t.suite}
                            {t.steady > 0 && `, steady on ${t.steady} others`}
                          </span>
                          {t.trigger && <span className="block text-xs text-flaky">most {t.trigger}</span>}
                          <Link
                            className="block text-xs text-accent hover:underline"
                            to={`/aside?${new URLSearchParams({ project: t.project, suite: t.suite, test: t.test })}`}
                          >
                            Set aside
                          </Link>
                        </>
                      )}
                    </td>
                    <td className="px-4 py-1.5">
                      <Link
                        className="text-accent hover:underline"
                        to={`/runs/${p.last_run}/tests/${p.place}?pane=${p.pane}`}
                      >
                        {p.label}
                      </Link>
                    </td>
                    <td className="px-4 py-1.5 whitespace-nowrap tabular-nums">
                      {p.off} of {p.trials}
                    </td>
                    <td className="px-4 py-1.5">
                      <Span low={p.low} rate={p.rate} high={p.high} color="flaky" />
                    </td>
                    <td className="px-4 py-1.5 whitespace-nowrap tabular-nums">{took(p.waste_ms)}</td>
                    <td className="px-4 py-1.5">
                      <Strip of={p.strip} />
                    </td>
                  </tr>
                )),
              )}
            </tbody>
          </table>
        )}
      </Sheet>
    </div>
  );
}

const fills: Record<string, Fill> = { p: "passed", f: "failed", y: "flaky", l: "lab-fault" };

/** What a test came to in run after run. */
function Strip({ of }: { of: string }) {
  const all = Array.from(of, (l) => fills[l] ?? "queued");
  return (
    <span className="flex" role="img" aria-label={all.map((f) => said(f)).join(", ")}>
      {all.map((f, i) => (
        <GlassMark key={i} fill={f} />
      ))}
    </span>
  );
}
