import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { get, post, remove, type Token, type Who } from "../../api/client";
import {
  Button,
  Choice,
  Confirm,
  Copyable,
  Empty,
  Field,
  Heads,
  Sheet,
  Trouble,
  Waiting,
} from "../../ui/parts";
import { useNow } from "../../ui/useNow";
import { useTitle } from "../../ui/useTitle";
import { ago } from "../../ui/words";
import { isAdmin, mayDo, matches } from "./rights";
import { PeopleTabs } from "./PeopleTabs";

/** Who may do what? One's own tokens; to the lab's admin, everyone's. */
export function TokensPage() {
  useTitle("Tokens");
  const me = useQuery({ queryKey: ["me"], queryFn: () => get<Who>("/me"), staleTime: Infinity });
  const tokens = useQuery({
    queryKey: ["tokens"],
    queryFn: () => get<Token[]>("/tokens"),
    refetchInterval: 30_000,
  });
  const [text, setText] = useState("");
  const admin = isAdmin(me.data);
  const list = (tokens.data ?? []).filter((t) => matches(t, text));
  return (
    <div className="grid gap-4">
      <PeopleTabs />
      {admin && <Make />}
      <Sheet
        title={admin ? "Tokens" : "Your tokens"}
        aside={
          <Field
            label="Find name, owner, right"
            size={28}
            value={text}
            onChange={(e) => {
              setText(e.target.value);
            }}
          />
        }
      >
        {tokens.isPending ? (
          <Waiting />
        ) : tokens.error ? (
          <Trouble error={tokens.error} again={() => void tokens.refetch()} />
        ) : list.length === 0 ? (
          <Empty title="No token is like that">Clear the search to see them all.</Empty>
        ) : (
          <List list={list} />
        )}
      </Sheet>
    </div>
  );
}

function List({ list }: { list: Token[] }) {
  const now = useNow(false);
  const queries = useQueryClient();
  const drop = useMutation({
    mutationFn: (id: string) => remove(`/tokens/${id}`),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["tokens"] }),
  });
  return (
    <>
      {drop.error && <Trouble error={drop.error} />}
      <table className="w-full text-left text-sm">
        <Heads of={["Token", "Owner", "May", "Ends", "Last used", ""]} />
        <tbody>
          {list.map((t) => (
            <tr key={t.id} className="border-t border-line align-top hover:bg-raised/50">
              <td className="px-4 py-2">
                {t.name}
                {t.console && <span className="text-soft"> · signed in</span>}
              </td>
              <td className="px-4 py-2">{t.owner}</td>
              <td className="px-4 py-2">{mayDo(t)}</td>
              <td className="px-4 py-2 whitespace-nowrap tabular-nums">{t.expires_at?.slice(0, 10)}</td>
              <td className="px-4 py-2">
                {t.used_at ? (
                  <>
                    {ago(t.used_at, now)} <span className="text-soft">from {t.used_from}</span>
                  </>
                ) : (
                  <span className="text-soft">never</span>
                )}
              </td>
              <td className="px-4 py-1.5 text-right">
                <Confirm
                  title={`Drop “${t.name}”?`}
                  text="It is good for nothing from now on; console sessions, links, streams and sessions that came of it end with it."
                  action="Drop it"
                  onYes={() => {
                    drop.mutate(t.id);
                  }}
                >
                  <Button className="text-xs">Drop</Button>
                </Confirm>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

const roles: [string, string][] = [
  ["viewer", "viewer: looks at everything"],
  ["runner", "runner: and starts runs and sessions"],
  ["keeper", "keeper: and minds sessions of others"],
  ["admin", "admin: and settles what is kept"],
  ["agent", "agent: joins one machine"],
];

function Make() {
  const queries = useQueryClient();
  const [name, setName] = useState("");
  const [owner, setOwner] = useState("");
  const [role, setRole] = useState("viewer");
  const [place, setPlace] = useState("");
  const [days, setDays] = useState("365");
  const make = useMutation({
    mutationFn: () =>
      post<Token & { secret: string }>("/tokens", {
        name,
        ...(owner && { owner }),
        ...(role === "agent"
          ? { role, ...(place && { agent: place }) }
          : { rights: [{ project: place || "*", role }] }),
        expires_at: new Date(Date.now() + Number(days) * 86_400_000).toISOString(),
      }),
    onSuccess: () => {
      setName("");
      return queries.invalidateQueries({ queryKey: ["tokens"] });
    },
  });
  return (
    <Sheet title="Make a token">
      <form
        className="flex flex-wrap items-center gap-2 p-4"
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate();
        }}
      >
        <Field
          label="What it is for"
          size={22}
          value={name}
          onChange={(e) => {
            setName(e.target.value);
          }}
          required
        />
        <Field
          label="Whose it is, if not that"
          size={20}
          value={owner}
          onChange={(e) => {
            setOwner(e.target.value);
          }}
        />
        <Choice label="Role" value={role} onChange={setRole} options={roles} />
        <Field
          label={role === "agent" ? "Agent; the first to join if empty" : "Project; every one if empty"}
          size={26}
          value={place}
          onChange={(e) => {
            setPlace(e.target.value);
          }}
        />
        <label className="flex items-center gap-1.5 text-sm text-soft">
          for{" "}
          <Field
            label="Days"
            size={5}
            value={days}
            inputMode="numeric"
            onChange={(e) => {
              setDays(e.target.value.replace(/\D/g, ""));
            }}
          />{" "}
          days
        </label>
        <Button type="submit" kind="accent" disabled={make.isPending || !name || !days}>
          Make it
        </Button>
      </form>
      {make.error && <Trouble error={make.error} />}
      {make.data && (
        <div className="grid gap-2 border-t border-line p-4 text-sm">
          <p>
            This is the token “{make.data.name}”. It is shown this one time: keep it where only{" "}
            {make.data.owner} finds it.
          </p>
          <Copyable text={make.data.secret} label="The new token" />
        </div>
      )}
    </Sheet>
  );
}
