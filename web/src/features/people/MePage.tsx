import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type SyntheticEvent, useState } from "react";
import { get, post, remove, type MyAccount, type Subscription, type Who } from "../../api/client";
import { Button, Choice, Empty, Heads, Labelled, Sheet, Trouble, Waiting } from "../../ui/parts";
import { useTitle } from "../../ui/useTitle";
import { PeopleTabs } from "./PeopleTabs";
import { inWords } from "./rights";
import { usePlaces } from "./usePlaces";
import { Wishes } from "./wishes";

/** Who am I to the lab, and what do I hear of? */
export function MePage() {
  useTitle("You");
  const queries = useQueryClient();
  const me = useQuery({ queryKey: ["me"], queryFn: () => get<Who>("/me"), staleTime: Infinity });
  const mine = useQuery({ queryKey: ["account"], queryFn: () => get<MyAccount>("/me/account") });
  const after = { onSettled: () => queries.invalidateQueries({ queryKey: ["account"] }) };
  const mentions = useMutation({
    mutationFn: (on: boolean) => post("/me/account", { mentions: on }),
    ...after,
  });
  const unhear = useMutation({ mutationFn: (s: Subscription) => remove(`/me/hears/${s.id}`), ...after });
  if (mine.isPending || me.isPending) return <Waiting />;
  const error = mine.error ?? me.error;
  if (error) return <Trouble error={error} again={() => void mine.refetch()} />;
  const account = mine.data?.account;
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <PeopleTabs />
      <Sheet title="You">
        <dl className="grid grid-cols-[8rem_1fr] gap-y-1.5 p-4 text-sm">
          <dt className="text-soft">Name</dt>
          <dd>{me.data?.owner}</dd>
          <dt className="text-soft">Here by</dt>
          <dd>{me.data?.name}</dd>
          <dt className="text-soft">May</dt>
          <dd>{inWords(me.data?.rights ?? [])}</dd>
          <dt className="text-soft">Mail</dt>
          <dd>{account ? account.mail || "none" : "no account"}</dd>
        </dl>
      </Sheet>
      {!account ? (
        <Sheet title="What you hear of">
          <Empty title="You have no account">
            With one you hear of runs at your own mail address, and of notes that mention you. The lab&apos;s
            admin adds it under <em>Accounts</em>, or with{" "}
            <code className="font-mono text-ink">pane account add</code>.
          </Empty>
        </Sheet>
      ) : (
        <>
          <Sheet title="What you hear of, by mail">
            <label className="flex items-center gap-2 border-b border-line px-4 py-2.5 text-sm">
              <input
                type="checkbox"
                checked={account.mentions}
                disabled={mentions.isPending}
                onChange={(e) => {
                  mentions.mutate(e.target.checked);
                }}
              />
              Notes that mention @{account.name}
            </label>
            {(mentions.error ?? unhear.error) && (
              <Trouble error={(mentions.error ?? unhear.error) as Error} />
            )}
            {mine.data?.hears.length === 0 ? (
              <Empty title="You hear of no runs">Say below of which you want to.</Empty>
            ) : (
              <table className="w-full text-left text-sm">
                <Heads of={["Of", "Hears of", ""]} />
                <tbody>
                  {mine.data?.hears.map((s) => (
                    <tr key={s.id} className="border-t border-line">
                      <td className="px-4 py-1.5">
                        {s.project} {s.suite}
                      </td>
                      <td className="px-4 py-1.5">{s.of.join(", ")}</td>
                      <td className="px-4 py-1.5 text-right">
                        <Button
                          className="text-xs"
                          onClick={() => {
                            unhear.mutate(s);
                          }}
                        >
                          No more
                        </Button>
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
            )}
          </Sheet>
          <Hear />
        </>
      )}
    </div>
  );
}

/** Hears of something oneself. */
function Hear() {
  const queries = useQueryClient();
  const places = usePlaces();
  const [where, setWhere] = useState("");
  const [of, setOf] = useState(["changed"]);
  const chosen = where || (places[0] ?? "");
  const hear = useMutation({
    mutationFn: () => {
      const [project = "", suite = ""] = chosen.split(" ");
      return post<Subscription>("/me/hears", { project, ...(suite && { suite }), of });
    },
    onSettled: () => queries.invalidateQueries({ queryKey: ["account"] }),
  });
  return (
    <Sheet title="Hear of something">
      <form
        className="grid gap-3 p-4"
        onSubmit={(e: SyntheticEvent) => {
          e.preventDefault();
          hear.mutate();
        }}
      >
        <div className="flex flex-wrap items-end gap-3">
          <Labelled label="Of">
            <Choice label="Of" value={chosen} onChange={setWhere} options={places.map((p) => [p, p])} />
          </Labelled>
          <Button
            kind="accent"
            type="submit"
            disabled={hear.isPending || of.length === 0 || places.length === 0}
          >
            Hear of it
          </Button>
        </div>
        <Wishes of={of} onChange={setOf} />
        {hear.error && <Trouble error={hear.error} />}
      </form>
    </Sheet>
  );
}
