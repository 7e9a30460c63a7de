import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type SyntheticEvent, useState } from "react";
import Markdown from "react-markdown";
import { get, post, remove, type Note, type NoteRequest } from "../../api/client";
import { Button, Choice, Sheet, Trouble } from "../../ui/parts";
import { useNow } from "../../ui/useNow";
import { ago } from "../../ui/words";

type About = Omit<NoteRequest, "body">;

/** What people noted of a run and of what is in it, with a place to note more. Each thing that can be noted of has a name. */
export function Notes({
  run,
  only,
  cause,
  about,
}: {
  run: number;
  only?: string;
  cause?: string;
  about: [string, About][];
}) {
  const queries = useQueryClient();
  const now = useNow(false);
  const found = useQuery({ queryKey: ["notes", run], queryFn: () => get<Note[]>(`/runs/${run}/notes`) });
  const [text, setText] = useState("");
  const [at, setAt] = useState("0");
  const after = { onSettled: () => queries.invalidateQueries({ queryKey: ["notes", run] }) };
  const add = useMutation({
    mutationFn: () => post<Note>(`/runs/${run}/notes`, { ...about[Number(at)]?.[1], body: text }),
    onSuccess: () => {
      setText("");
    },
    ...after,
  });
  const drop = useMutation({ mutationFn: (n: Note) => remove(`/notes/${n.id}`), ...after });
  const all = (found.data ?? []).filter(
    (n) =>
      (only === undefined || (n.kind === "test" && n.title === only)) &&
      (cause === undefined || (n.kind === "cause" && cause.startsWith(n.title.replace(/…$/, "")))),
  );
  const error = found.error ?? add.error ?? drop.error;
  return (
    <Sheet title={all.length > 0 ? `Notes: ${all.length}` : "Notes"}>
      {error && <Trouble error={error} />}
      <ul aria-label="Notes">
        {all.map((n) => (
          <li key={n.id} className="border-b border-line px-4 py-2.5">
            <p className="flex items-baseline gap-2 text-xs text-soft">
              <span className="text-sm font-medium text-ink">{n.by}</span>
              <span className="truncate">
                on {n.kind === "run" ? n.title : `the ${n.kind} “${n.title}”`}, {ago(n.at, now)}
                {n.run !== run && `, in #${n.run}`}
              </span>
              <Button
                className="ml-auto text-xs"
                onClick={() => {
                  drop.mutate(n);
                }}
              >
                Forget
              </Button>
            </p>
            <div className="note max-w-4xl text-sm">
              <Markdown>{n.body}</Markdown>
            </div>
          </li>
        ))}
      </ul>
      <form
        className="flex flex-wrap items-start gap-2 p-3"
        onSubmit={(e: SyntheticEvent) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <textarea
          aria-label="A note, in Markdown"
          placeholder="A note, in Markdown; @name mentions somebody"
          className="min-w-64 grow rounded border border-line bg-ground px-2.5 py-1.5 text-sm placeholder:text-soft"
          rows={text.includes("\n") ? 4 : 1}
          maxLength={16_000}
          value={text}
          onChange={(e) => {
            setText(e.target.value);
          }}
        />
        {about.length > 1 && (
          <Choice
            label="What the note is on"
            value={at}
            onChange={setAt}
            options={about.map(([name], i) => [String(i), name])}
          />
        )}
        <Button type="submit" disabled={!text.trim() || add.isPending}>
          Keep the note
        </Button>
      </form>
    </Sheet>
  );
}
