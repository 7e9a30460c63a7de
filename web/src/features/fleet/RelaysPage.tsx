import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { get, remove, type Relay } from "../../api/client";
import { Button, Confirm, Empty, Field, Heads, Sheet, Trouble, Waiting } from "../../ui/parts";
import { Tabs } from "../../ui/Tabs";
import { useNow } from "../../ui/useNow";
import { useTitle } from "../../ui/useTitle";
import { ago, bytes, many } from "../../ui/words";
import { fleetPages } from "./BrowsersPage";

/** Through whose machines are applications reached, and what passes there? */
export function RelaysPage() {
  useTitle("Relays");
  const [params, setParams] = useSearchParams();
  const text = params.get("text") ?? "";
  const all = useQuery({
    queryKey: ["relays", text],
    queryFn: () => get<Relay[]>(`/relays?text=${encodeURIComponent(text)}`),
    refetchInterval: 2000,
    placeholderData: (before) => before,
  });
  if (all.isPending) return <Waiting />;
  if (all.error) return <Trouble error={all.error} again={() => void all.refetch()} />;
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <Tabs label="Fleet" pages={fleetPages} />
      <Sheet
        title="Which applications are reached through somebody's own machine?"
        aside={
          <Field
            label="Find name, owner, place"
            size={26}
            value={text}
            onChange={(e) => {
              setParams(e.target.value ? { text: e.target.value } : {}, { replace: true });
            }}
          />
        }
      >
        {all.data.length === 0 ? (
          text ? (
            <Empty title="No relay is like that">Clear the search to see them all.</Empty>
          ) : (
            <Empty title="No relay is open">
              Where an application runs that the agents do not reach, run{" "}
              <code className="font-mono text-ink">
                pane relay localhost:8080 --service {location.origin}
              </code>
              ; <code className="font-mono text-ink">pane run</code> opens one by itself for an address that
              means something else to the lab.
            </Empty>
          )
        ) : (
          <div className="overflow-x-auto">
            <table className="w-full text-left text-sm">
              <Heads of={["Relay", "Leads to", "Open", "So far", "To it", "From it", "Last", ""]} />
              <tbody>
                {all.data.map((r) => (
                  <Line key={`${r.project}/${r.name}`} relay={r} />
                ))}
              </tbody>
            </table>
          </div>
        )}
      </Sheet>
    </div>
  );
}

function Line({ relay: r }: { relay: Relay }) {
  const now = useNow(true);
  const queries = useQueryClient();
  const end = useMutation({
    mutationFn: () => remove(`/relays/${encodeURIComponent(r.project)}/${encodeURIComponent(r.name)}`),
    onSettled: () => queries.invalidateQueries({ queryKey: ["relays"] }),
  });
  return (
    <tr className="border-t border-line align-top">
      <td className="px-4 py-2">
        <b className="font-medium">{r.name}</b>
        {r.away && <span className="ml-2 text-flaky">its owner is away</span>}
        <p className="text-xs text-soft">
          {r.project}, opened by {r.by} {ago(r.opened_at, now)}
        </p>
      </td>
      <td className="px-4 py-2 font-mono text-xs">
        {r.places.map((p) => (
          <p key={p}>{p}</p>
        ))}
      </td>
      <td className="px-4 py-2 tabular-nums">{r.open}</td>
      <td className="px-4 py-2 tabular-nums">{many(r.connections, "connection")}</td>
      <td className="px-4 py-2 tabular-nums">{bytes(r.in)}</td>
      <td className="px-4 py-2 tabular-nums">{bytes(r.out)}</td>
      <td className="px-4 py-2 text-xs text-soft">
        {r.last_at ? `${r.last_to}, ${ago(r.last_at, now)}` : "nothing yet"}
        {r.refused > 0 && <p>{many(r.refused, "connection")} refused: not on its list</p>}
        {r.trouble && <p className="text-lab-fault">{r.trouble}</p>}
      </td>
      <td className="px-4 py-2 text-right">
        <Confirm
          title={`End relay ${r.name}?`}
          text="What uses it now loses its site. Its owner's pane relay ends as well."
          action="End"
          onYes={() => {
            end.mutate();
          }}
        >
          <Button className="text-xs">End</Button>
        </Confirm>
        {end.error && <Trouble error={end.error} />}
      </td>
    </tr>
  );
}
