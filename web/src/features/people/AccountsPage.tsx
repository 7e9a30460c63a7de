import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type SyntheticEvent, useState } from "react";
import { get, post, remove, type Account } from "../../api/client";
import {
  Button,
  Choice,
  Confirm,
  Empty,
  Field,
  Heads,
  Labelled,
  Sheet,
  Trouble,
  Waiting,
} from "../../ui/parts";
import { useNow } from "../../ui/useNow";
import { useTitle } from "../../ui/useTitle";
import { ago } from "../../ui/words";
import { PeopleTabs } from "./PeopleTabs";
import { inWords } from "./rights";

/** Who has an account, and what may they do? */
export function AccountsPage() {
  useTitle("Accounts");
  const now = useNow(false);
  const queries = useQueryClient();
  const [text, setText] = useState("");
  const found = useQuery({ queryKey: ["accounts"], queryFn: () => get<Account[]>("/accounts") });
  const drop = useMutation({
    mutationFn: (a: Account) => remove(`/accounts/${a.id}`),
    onSettled: async () => {
      await queries.invalidateQueries({ queryKey: ["accounts"] });
      await queries.invalidateQueries({ queryKey: ["tokens"] });
    },
  });
  const list = (found.data ?? []).filter((a) =>
    `${a.name} ${a.mail} ${inWords(a.rights)}`.toLowerCase().includes(text.trim().toLowerCase()),
  );
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <PeopleTabs />
      <Sheet
        title="Accounts"
        aside={
          <Field
            label="Find name, mail, right"
            value={text}
            onChange={(e) => {
              setText(e.target.value);
            }}
          />
        }
      >
        {drop.error && <Trouble error={drop.error} />}
        {found.isPending ? (
          <Waiting />
        ) : found.error ? (
          <Trouble error={found.error} again={() => void found.refetch()} />
        ) : found.data.length === 0 ? (
          <Empty title="Nobody has an account yet">
            People with an account sign in with the lab&apos;s OpenID provider and hear of what they choose at
            their own mail address. Tokens work without.
          </Empty>
        ) : list.length === 0 ? (
          <Empty title="No account is like that">Clear the search to see them all.</Empty>
        ) : (
          <table className="w-full text-left text-sm">
            <Heads of={["Name", "Mail", "May", "Signs in", "Last", "Made by", ""]} />
            <tbody>
              {list.map((a) => (
                <Line
                  key={a.id}
                  account={a}
                  now={now}
                  onDrop={() => {
                    drop.mutate(a);
                  }}
                />
              ))}
            </tbody>
          </table>
        )}
      </Sheet>
      <Add />
    </div>
  );
}

function Line({ account: a, now, onDrop }: { account: Account; now: number; onDrop: () => void }) {
  const [changing, setChanging] = useState(false);
  return (
    <>
      <tr className="border-t border-line">
        <td className="px-4 py-1.5 font-medium">{a.name}</td>
        <td className="px-4 py-1.5">{a.mail}</td>
        <td className="px-4 py-1.5">{inWords(a.rights)}</td>
        <td className="px-4 py-1.5">{a.signs_in ? "with the provider" : "not yet"}</td>
        <td className="px-4 py-1.5 text-soft">{a.seen_at ? ago(a.seen_at, now) : "never"}</td>
        <td className="px-4 py-1.5 text-soft">{a.by}</td>
        <td className="px-4 py-1.5">
          <div className="flex justify-end gap-2">
            <Button
              className="text-xs"
              aria-expanded={changing}
              onClick={() => {
                setChanging(!changing);
              }}
            >
              Change
            </Button>
            <Confirm
              title={`Forget ${a.name}?`}
              text="Every token of theirs ends, and what they were to hear of is dropped."
              action="Forget the account"
              onYes={onDrop}
            >
              <Button className="text-xs">Forget</Button>
            </Confirm>
          </div>
        </td>
      </tr>
      {changing && (
        <tr>
          <td colSpan={7}>
            <Fill
              path={`/accounts/${a.id}`}
              mail={a.mail}
              several={a.rights.length > 1}
              role={a.rights[0]?.role ?? "viewer"}
              project={a.rights[0]?.project === "*" ? "" : (a.rights[0]?.project ?? "")}
              action="Change it"
              onDone={() => {
                setChanging(false);
              }}
            />
          </td>
        </tr>
      )}
    </>
  );
}

const roles: [string, string][] = [
  ["viewer", "viewer"],
  ["runner", "runner"],
  ["keeper", "keeper"],
  ["admin", "admin"],
];

/** Makes an account. */
function Add() {
  return (
    <Sheet title="Add an account">
      <Fill path="/accounts" mail="" role="viewer" project="" action="Add" onDone={() => undefined} named />
    </Sheet>
  );
}

function Fill({
  path,
  named,
  several,
  action,
  onDone,
  ...was
}: {
  path: string;
  named?: boolean;
  several?: boolean;
  mail: string;
  role: string;
  project: string;
  action: string;
  onDone: () => void;
}) {
  const queries = useQueryClient();
  const [name, setName] = useState("");
  const [mail, setMail] = useState(was.mail);
  const [role, setRole] = useState(was.role);
  const [project, setProject] = useState(was.project);
  const save = useMutation({
    mutationFn: () =>
      post<Account>(path, {
        ...(named && { name }),
        mail,
        ...(!several && { rights: [{ project: project || "*", role }] }),
      }),
    onSuccess: () => {
      setName("");
      onDone();
    },
    onSettled: () => queries.invalidateQueries({ queryKey: ["accounts"] }),
  });
  return (
    <form
      className="grid gap-3 p-4"
      onSubmit={(e: SyntheticEvent) => {
        e.preventDefault();
        save.mutate();
      }}
    >
      <div className="flex flex-wrap items-end gap-3">
        {named && (
          <Labelled label="Name, as notes mention it">
            <Field
              label="tern"
              required
              value={name}
              onChange={(e) => {
                setName(e.target.value);
              }}
            />
          </Labelled>
        )}
        <Labelled label="Mail address">
          <Field
            label="tern@saltmarsh.example"
            type="email"
            className="w-72"
            value={mail}
            onChange={(e) => {
              setMail(e.target.value);
            }}
          />
        </Labelled>
        {several ? (
          <p className="text-sm text-soft">
            It has several rights: <code className="font-mono text-ink">pane account change</code> gives
            others.
          </p>
        ) : (
          <>
            {" "}
            <Labelled label="May">
              <Choice label="Role" value={role} onChange={setRole} options={roles} />
            </Labelled>
            <Labelled label="In">
              <Field
                label="every project"
                value={project}
                onChange={(e) => {
                  setProject(e.target.value);
                }}
              />
            </Labelled>
          </>
        )}
        <Button kind="accent" type="submit" disabled={save.isPending}>
          {action}
        </Button>
      </div>
      {save.error && <Trouble error={save.error} />}
    </form>
  );
}
