import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { get, type Bisect } from "../../api/client";
import { Empty, Field, Heads, Sheet, Trouble, Waiting } from "../../ui/parts";
import { Tabs } from "../../ui/Tabs";
import { useNow } from "../../ui/useNow";
import { useTitle } from "../../ui/useTitle";
import { ago } from "../../ui/words";
import { runPages } from "./names";

/** What was looked for, and what came of it? */
export function BisectsPage() {
  useTitle("What broke it");
  const now = useNow(false);
  const [find, setFind] = useState("");
  const all = useQuery({
    queryKey: ["bisects"],
    queryFn: () => get<Bisect[]>("/bisects"),
    refetchInterval: 3000,
  });
  const words = find.toLowerCase().split(/\s+/).filter(Boolean);
  const list = (all.data ?? []).filter((b) => {
    const text = `${b.test} ${b.label} ${b.project} ${b.by} #${b.run} ${b.answer?.words ?? ""}`.toLowerCase();
    return words.every((w) => text.includes(w));
  });
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <Tabs label="Runs" pages={runPages} />
      <Sheet
        title="Which version or bundle broke it?"
        aside={
          <Field
            label="Find test, combination, answer"
            size={28}
            value={find}
            onChange={(e) => {
              setFind(e.target.value);
            }}
          />
        }
      >
        {all.isPending ? (
          <Waiting />
        ) : all.error ? (
          <Trouble error={all.error} again={() => void all.refetch()} />
        ) : list.length === 0 ? (
          find ? (
            <Empty title="No search is like that">Clear the search to see them all.</Empty>
          ) : (
            <Empty title="Nothing was looked for yet">
              Open a failed test of a run and ask which version broke it, or run{" "}
              <code className="font-mono text-ink">pane bisect TEST --run N</code>.
            </Empty>
          )
        ) : (
          <table className="w-full text-left text-sm">
            <Heads of={["Test", "On", "Tries", "Answer", "Asked"]} />
            <tbody>
              {list.map((b) => (
                <tr key={b.id} className="border-t border-line align-top hover:bg-raised/50">
                  <td className="px-4 py-2">
                    <Link className="text-accent hover:underline" to={`/bisects/${b.id}`}>
                      {b.test}
                    </Link>
                    <span className="block text-xs text-soft">
                      run #{b.run}, {b.project}
                    </span>
                  </td>
                  <td className="px-4 py-2">{b.label}</td>
                  <td className="px-4 py-2 tabular-nums">{b.tries.length}</td>
                  <td className="px-4 py-2">{b.answer ? b.answer.words : "goes on"}</td>
                  <td className="px-4 py-2 text-soft">
                    {ago(b.started_at, now)} by {b.by}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </Sheet>
    </div>
  );
}
