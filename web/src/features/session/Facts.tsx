import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import Markdown from "react-markdown";
import { fileAddress, post, type Session } from "../../api/client";
import { Button, Trouble } from "../../ui/parts";
import { took } from "../../ui/words";

function Term({ name, children }: { name: string; children: ReactNode }) {
  return (
    <>
      <dt className="text-soft">{name}</dt>
      <dd className="min-w-0">{children}</dd>
    </>
  );
}

/** On what the session ran, and what came of it besides its pictures. */
export function Facts({ session: s }: { session: Session }) {
  const facts = s.facts; // of an agent that was removed nothing is known
  const m = facts?.machine;
  return (
    <dl className="grid grid-cols-[9rem_minmax(0,1fr)] gap-x-4 gap-y-1.5 p-4 text-sm">
      <Term name="Session">
        <code className="font-mono text-xs">{s.id}</code>
      </Term>
      <Term name="Ended">{s.end || "not yet"}</Term>
      {s.judged_by && <Term name="Verdict by">{s.judged_by}</Term>}
      <Term name="Browser">
        {s.browser} {s.version}
        {s.detail.start_ms > 0 && `, there after ${took(s.detail.start_ms)}`}
      </Term>
      <Term name="Agent">
        {s.agent || "none yet"}
        {m &&
          `: ${m.os_version || m.os}, ${m.arch}, ${m.cores} cores, ${Math.round(m.memory_mb / 1024)} GB, ${facts.slots} ${facts.slots === 1 ? "slot" : "slots"}`}
        {m?.stand_in && " (a stand-in)"}
      </Term>
      {s.detail.emulated.applied.length > 0 && (
        <Term name="Emulated">{s.detail.emulated.applied.join(", ")}</Term>
      )}
      {s.detail.emulated.missing.length > 0 && (
        <Term name="Not emulated">
          <span className="text-flaky">
            {s.detail.emulated.missing.map((x) => `${x.feature} (${x.reason})`).join(", ")}
          </span>
        </Term>
      )}
      <Term name="Recorded">
        {Object.entries(s.detail.record ?? {})
          .map(([k, v]) => `${k} ${v}`)
          .join(", ") || "–"}
      </Term>
      {(s.detail.lacking ?? []).length > 0 && (
        <Term name="Not recorded">
          <span className="text-flaky">
            {(s.detail.lacking ?? []).map((x) => `${x.kind} (${x.reason})`).join(", ")}
          </span>
        </Term>
      )}
      {(s.detail.cut ?? []).length > 0 && (
        <Term name="Left out">
          <span className="text-flaky">{(s.detail.cut ?? []).join("; ")}</span>
        </Term>
      )}
      <Term name="Files">
        <span className="flex flex-wrap gap-x-4 gap-y-1">
          {s.files.map((f) => (
            <a
              key={f.name}
              className="text-accent hover:underline"
              href={fileAddress(s.attempt_id, f.name)}
              download={f.name}
            >
              {f.name} <span className="text-xs text-soft">{Math.ceil(f.size / 1000)} kB</span>
            </a>
          ))}
        </span>
      </Term>
    </dl>
  );
}

/** What was asked for, and what the driver gave. */
export function Capabilities({ session: s }: { session: Session }) {
  return (
    <div className="grid gap-4 p-4 lg:grid-cols-2">
      {(
        [
          ["Asked for", s.asked],
          ["Given by the driver", s.detail.given ?? {}],
        ] as [string, unknown][]
      ).map(([title, v]) => (
        <section key={title} className="min-w-0">
          <h3 className="mb-1 text-sm text-soft">{title}</h3>
          <pre className="max-h-96 overflow-auto rounded border border-line bg-ground p-3 font-mono text-xs">
            {JSON.stringify(v, null, 2)}
          </pre>
        </section>
      ))}
    </div>
  );
}

/** A note for whoever looks here next. */
export function Note({ session: s }: { session: Session }) {
  const [note, setNote] = useState(s.note);
  const queries = useQueryClient();
  const keep = useMutation({
    mutationFn: () => post(`/sessions/${s.id}/note`, { note }),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["session", s.id] }),
  });
  return (
    <div className="grid gap-2 p-4">
      {s.note !== "" && (
        <div className="note max-w-4xl text-sm">
          <Markdown>{s.note}</Markdown>
        </div>
      )}
      <textarea
        aria-label="Note"
        value={note}
        onChange={(e) => {
          setNote(e.target.value);
        }}
        rows={4}
        placeholder="What should the next one who looks here know? In Markdown; @name mentions somebody"
        className="rounded border border-line bg-ground px-3 py-2 text-sm"
      />
      {s.note !== "" && s.note_by && (
        <p className="text-xs text-soft">
          By {s.note_by}
          {s.note_at && `, ${new Date(s.note_at).toLocaleString()}`}
        </p>
      )}
      <Button
        className="justify-self-start"
        disabled={note === s.note}
        onClick={() => {
          keep.mutate();
        }}
      >
        {keep.isPending ? "Keeping …" : note === s.note && s.note !== "" ? "Kept" : "Keep the note"}
      </Button>
      {keep.error && <Trouble error={keep.error} />}
    </div>
  );
}
