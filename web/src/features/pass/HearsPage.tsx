import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type SyntheticEvent, useState } from "react";
import { Link } from "react-router";
import {
  get,
  post,
  remove,
  type Delivery,
  type NewSubscription,
  type Subscription,
  type SubscriptionRequest,
} from "../../api/client";
import {
  Button,
  Choice,
  Confirm,
  Copyable,
  Empty,
  Field,
  Heads,
  Labelled,
  Sheet,
  Trouble,
  Waiting,
} from "../../ui/parts";
import { PeopleTabs } from "../people/PeopleTabs";
import { usePlaces } from "../people/usePlaces";
import { Wishes } from "../people/wishes";
import { useFilters } from "../../ui/useFilters";
import { useNow } from "../../ui/useNow";
import { useTitle } from "../../ui/useTitle";
import { ago } from "../../ui/words";

/** Who hears of what, and what was sent? */
export function HearsPage() {
  useTitle("Who hears of it");
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <PeopleTabs />
      <Subscriptions />
      <Add />
      <Sent />
    </div>
  );
}

function Subscriptions() {
  const queries = useQueryClient();
  const found = useQuery({
    queryKey: ["subscriptions"],
    queryFn: () => get<Subscription[]>("/subscriptions"),
  });
  const after = {
    onSettled: async () => {
      await queries.invalidateQueries({ queryKey: ["subscriptions"] });
      await queries.invalidateQueries({ queryKey: ["deliveries"] });
    },
  };
  const pause = useMutation({
    mutationFn: (s: Subscription) => post(`/subscriptions/${s.id}/pause`, { paused: !s.paused }),
    ...after,
  });
  const attempt = useMutation({
    mutationFn: (s: Subscription) => post(`/subscriptions/${s.id}/try`, {}),
    ...after,
  });
  const drop = useMutation({ mutationFn: (s: Subscription) => remove(`/subscriptions/${s.id}`), ...after });
  const error = pause.error ?? attempt.error ?? drop.error;
  return (
    <Sheet title="Who hears of what">
      {error && <Trouble error={error} />}
      {found.isPending ? (
        <Waiting />
      ) : found.error ? (
        <Trouble error={found.error} again={() => void found.refetch()} />
      ) : found.data.length === 0 ? (
        <Empty title="Nobody hears of anything yet">
          Have somebody hear of what fails, by mail or at an address of the web, below or with{" "}
          <code className="font-mono text-ink">pane notify add</code>.
        </Empty>
      ) : (
        <table className="w-full text-left text-sm">
          <Heads of={["Who", "By", "Of", "Hears of", "Made by", ""]} />
          <tbody>
            {found.data.map((s) => (
              <tr key={s.id} className="border-t border-line">
                <td className="px-4 py-1.5 font-medium">{s.target}</td>
                <td className="px-4 py-1.5">{s.kind}</td>
                <td className="px-4 py-1.5">
                  {s.project} {s.suite}
                </td>
                <td className="px-4 py-1.5">
                  {s.of.join(", ")}
                  {s.paused && <span className="text-flaky"> (paused)</span>}
                </td>
                <td className="px-4 py-1.5 text-soft">{s.by}</td>
                <td className="px-4 py-1.5">
                  <div className="flex justify-end gap-2">
                    <Button
                      className="text-xs"
                      onClick={() => {
                        attempt.mutate(s);
                      }}
                    >
                      Try
                    </Button>
                    <Button
                      className="text-xs"
                      onClick={() => {
                        pause.mutate(s);
                      }}
                    >
                      {s.paused ? "Resume" : "Pause"}
                    </Button>
                    <Confirm
                      title={`Forget ${s.target}?`}
                      text="It hears of nothing any more, and what was still to be sent to it is dropped."
                      action="Forget it"
                      onYes={() => {
                        drop.mutate(s);
                      }}
                    >
                      <Button className="text-xs">Forget</Button>
                    </Confirm>
                  </div>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </Sheet>
  );
}

/** Has somebody hear of something. */
function Add() {
  const queries = useQueryClient();
  const places = usePlaces();
  const [kind, setKind] = useState<"mail" | "hook">("mail");
  const [target, setTarget] = useState("");
  const [of, setOf] = useState(["changed"]);
  const [where, setWhere] = useState("");
  const chosen = where || (places[0] ?? "");
  const add = useMutation({
    mutationFn: () => {
      const [project = "", suite = ""] = chosen.split(" ");
      const request = { project, suite, kind, target, of } as SubscriptionRequest;
      return post<NewSubscription>("/subscriptions", request);
    },
    onSuccess: () => {
      setTarget("");
    },
    onSettled: () => queries.invalidateQueries({ queryKey: ["subscriptions"] }),
  });
  return (
    <Sheet title="Have somebody hear of something">
      <form
        className="grid gap-3 p-4"
        onSubmit={(e: SyntheticEvent) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <div className="flex flex-wrap items-end gap-3">
          <Labelled label="By">
            <Choice
              label="By"
              value={kind}
              onChange={(v) => {
                setKind(v === "hook" ? "hook" : "mail");
              }}
              options={[
                ["mail", "mail"],
                ["hook", "a CloudEvent to an address of the web"],
              ]}
            />
          </Labelled>
          <Labelled label={kind === "mail" ? "Mail address" : "Address"}>
            <Field
              label={kind === "mail" ? "tern@saltmarsh.example" : "https://chat.saltmarsh.example/lab"}
              className="w-80"
              required
              value={target}
              onChange={(e) => {
                setTarget(e.target.value);
              }}
            />
          </Labelled>
          <Labelled label="Of">
            <Choice label="Of" value={chosen} onChange={setWhere} options={places.map((p) => [p, p])} />
          </Labelled>
          <Button kind="accent" type="submit" disabled={add.isPending || of.length === 0}>
            Add
          </Button>
        </div>
        <Wishes of={of} onChange={setOf} />
        {add.error && <Trouble error={add.error} />}
        {add.data?.key && (
          <div className="grid gap-1">
            <p className="text-sm">Its messages are signed with this key, which is shown this once:</p>
            <Copyable label="Copy the key" text={add.data.key} />
          </div>
        )}
      </form>
    </Sheet>
  );
}

const inks: Record<string, string> = { sent: "text-passed", "given-up": "text-failed", waiting: "text-soft" };

/** What was sent, and what is to be. */
function Sent() {
  const filters = useFilters();
  const now = useNow(true);
  const queries = useQueryClient();
  const state = filters.value("state");
  const found = useQuery({
    queryKey: ["deliveries", state],
    queryFn: () => get<Delivery[]>(`/deliveries?${new URLSearchParams({ state, limit: "100" })}`),
    refetchInterval: 5000,
  });
  const again = useMutation({
    mutationFn: (d: Delivery) => post(`/deliveries/${encodeURIComponent(d.id)}/again`, {}),
    onSettled: () => queries.invalidateQueries({ queryKey: ["deliveries"] }),
  });
  return (
    <Sheet
      title="What was sent"
      aside={
        <Choice
          label="State"
          value={state}
          onChange={(v) => {
            filters.set("state", v);
          }}
          options={[
            ["", "all of it"],
            ["waiting", "waiting"],
            ["sent", "sent"],
            ["given-up", "given up"],
          ]}
        />
      }
    >
      {again.error && <Trouble error={again.error} />}
      {found.isPending ? (
        <Waiting />
      ) : found.error ? (
        <Trouble error={found.error} again={() => void found.refetch()} />
      ) : found.data.length === 0 ? (
        <Empty title="Nothing was sent that is like that">
          What is told of a run is put here with its end. <em>Try</em> above sends something at once.
        </Empty>
      ) : (
        <table className="w-full text-left text-sm">
          <Heads of={["To", "Of", "About", "State", "Made", "Answer", ""]} />
          <tbody>
            {found.data.map((d) => (
              <tr key={d.id} className="border-t border-line">
                <td className="px-4 py-1.5">{d.target || "somebody who is forgotten"}</td>
                <td className="px-4 py-1.5">{d.of}</td>
                <td className="px-4 py-1.5">
                  {d.run > 0 ? (
                    <Link className="text-accent hover:underline" to={`/runs/${d.run}`}>
                      #{d.run}
                    </Link>
                  ) : (
                    "the day before"
                  )}
                </td>
                <td className={`px-4 py-1.5 whitespace-nowrap ${inks[d.state] ?? ""}`}>
                  {d.state === "given-up" ? "given up" : d.state}
                  {d.state === "waiting" && d.tries > 0 && `, tried ${d.tries} times`}
                </td>
                <td className="px-4 py-1.5 whitespace-nowrap text-soft">{ago(d.made_at, now)}</td>
                <td className="max-w-md truncate px-4 py-1.5 text-soft" title={d.answer}>
                  {d.answer}
                </td>
                <td className="px-4 py-1.5 text-right">
                  {d.state !== "waiting" && (
                    <Button
                      className="text-xs"
                      onClick={() => {
                        again.mutate(d);
                      }}
                    >
                      Again
                    </Button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </Sheet>
  );
}
