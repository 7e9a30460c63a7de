import { useMutation } from "@tanstack/react-query";
import { post, remove, type Defect } from "../../api/client";
import { Button, Confirm, Trouble } from "../../ui/parts";
import { useNow } from "../../ui/useNow";
import { ago } from "../../ui/words";

/** How a defect stands, in a word. */
export function Standing({ defect: d }: { defect: Defect }) {
  if (d.state === "waiting") return <span className="text-flaky">waits to be filed</span>;
  if (d.state === "refused") return <span className="text-labfault">not filed</span>;
  return <span className={d.closed ? "text-passed" : ""}>{d.status || "not known"}</span>;
}

/** What a tracker calls a defect, leading there. */
export function Key({ defect: d }: { defect: Defect }) {
  const name = d.key || "a defect";
  if (!d.link) return <span className="font-medium">{name}</span>;
  return (
    <a
      className="font-medium whitespace-nowrap text-accent hover:underline"
      href={d.link}
      target="_blank"
      rel="noreferrer"
    >
      {name}
    </a>
  );
}

/** One defect: what it is called, how it stands, and what can be done about it. */
export function Filed({ defect: d, after }: { defect: Defect; after: () => Promise<void> }) {
  const now = useNow(true);
  const ask = useMutation({ mutationFn: () => post<Defect>(`/defects/${d.id}/ask`), onSettled: after });
  const drop = useMutation({ mutationFn: () => remove(`/defects/${d.id}`), onSettled: after });
  return (
    <div className="grid gap-1 p-4 text-sm">
      <div className="flex flex-wrap items-center gap-3">
        <Key defect={d} />
        <span>{d.title}</span>
        <Standing defect={d} />
        <span className="ml-auto flex gap-2">
          {d.state !== "refused" && (
            <Button
              className="text-xs"
              disabled={ask.isPending}
              onClick={() => {
                ask.mutate();
              }}
            >
              {d.state === "waiting" ? "File it now" : "Ask how it stands"}
            </Button>
          )}
          <Confirm
            title="Forget this defect?"
            text="The tracker keeps what it has; here another can be filed of the cause."
            action="Forget it"
            onYes={() => {
              drop.mutate();
            }}
          >
            <Button className="text-xs">Forget</Button>
          </Confirm>
        </span>
      </div>
      <p className="text-soft">
        {d.state === "filed" ? "Filed" : "To be filed"} in {d.tracker || "a tracker that was dropped"} by{" "}
        {d.by} {ago(d.made_at, now)}, from #{d.run}
        {d.asked_at && `; the tracker was asked ${ago(d.asked_at, now)}`}
        {d.told > 0 && `; told that it is back in #${d.told}`}.
      </p>
      {d.trouble && <p className="text-flaky">{d.trouble}</p>}
      {(ask.error ?? drop.error) && <Trouble error={(ask.error ?? drop.error) as Error} />}
    </div>
  );
}
