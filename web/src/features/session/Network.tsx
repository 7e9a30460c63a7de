import { useState } from "react";
import { Empty, Field } from "../../ui/parts";
import { took } from "../../ui/words";
import type { Entry } from "./recorded";

const parts: [keyof Entry["timings"], string, string][] = [
  ["dns", "name", "bg-flaky/70"],
  ["connect", "connect", "bg-lab-fault/70"],
  ["send", "send", "bg-soft"],
  ["wait", "wait", "bg-accent/60"],
  ["receive", "receive", "bg-passed/80"],
];

/** The network as a waterfall, on the session's clock. */
export function Network({ entries, at, onAt }: { entries: Entry[]; at: number; onAt: (ms: number) => void }) {
  const [text, setText] = useState("");
  const [open, setOpen] = useState<number>();
  const shown = entries
    .map((e, i) => ({ e, i }))
    .filter(({ e }) =>
      `${e.request.method} ${e.request.url} ${e.response.status} ${e.response.content.mimeType}`
        .toLowerCase()
        .includes(text.toLowerCase()),
    );
  if (entries.length === 0)
    return <Empty title="No requests">The pages of this session asked for nothing.</Empty>;
  const from = Math.min(...entries.map((e) => e._at_ms));
  const to = Math.max(...entries.map((e) => e._at_ms + e.time), from + 1);
  const x = (ms: number) => `${(100 * (ms - from)) / (to - from)}%`;
  return (
    <div>
      <div className="flex items-center gap-4 border-b border-line p-2 text-xs text-soft">
        <Field
          label="Find address, method, status or type"
          value={text}
          onChange={(e) => {
            setText(e.target.value);
          }}
          className="w-80"
        />
        {parts.map(([, name, colour]) => (
          <span key={name} className="flex items-center gap-1">
            <span className={`size-2.5 rounded-sm ${colour}`} />
            {name}
          </span>
        ))}
        <span className="ml-auto">{entries.length} requests</span>
      </div>
      <div className="max-h-[28rem] overflow-y-auto">
        <table className="w-full table-fixed text-left text-xs">
          <tbody>
            {shown.map(({ e, i }) => (
              <tr
                key={i}
                className={`border-t border-line first:border-t-0 ${e._at_ms <= at && at <= e._at_ms + e.time ? "bg-raised" : ""}`}
              >
                <td className="w-20 px-3 py-1.5 text-right align-top whitespace-nowrap text-soft">
                  {took(e._at_ms)}
                </td>
                <td className="w-[38%] py-1.5">
                  <button
                    type="button"
                    aria-expanded={open === i}
                    onClick={() => {
                      setOpen(open === i ? undefined : i);
                      onAt(e._at_ms);
                    }}
                    className="block w-full truncate text-left hover:underline"
                  >
                    <span className="text-soft">{e.request.method}</span> {e.request.url}
                  </button>
                  {open === i && <Exchange entry={e} />}
                </td>
                <td
                  className={`w-16 px-2 align-top py-1.5 ${e._error || e.response.status >= 400 ? "text-failed" : ""}`}
                >
                  {e.response.status || "none"}
                </td>
                <td className="w-20 truncate px-2 align-top py-1.5 text-soft">
                  {e.response.content.mimeType.split(";")[0]}
                </td>
                <td className="w-16 px-2 text-right align-top py-1.5">{took(e.time)}</td>
                <td className="px-3 align-top py-2">
                  <span className="relative block h-3">
                    <span
                      className="absolute flex h-3 min-w-[2px] overflow-hidden rounded-sm"
                      style={{ left: x(e._at_ms), width: `max(2px, ${(100 * e.time) / (to - from)}%)` }}
                    >
                      {e._error ? (
                        <span className="w-full bg-failed" />
                      ) : (
                        parts.map(([key, name, colour]) => (
                          <span
                            key={name}
                            className={colour}
                            style={{ flexGrow: Math.max(0, e.timings[key]) }}
                          />
                        ))
                      )}
                    </span>
                  </span>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </div>
  );
}

function Exchange({ entry: e }: { entry: Entry }) {
  const body = e.response.content;
  return (
    <div className="my-2 grid gap-2 rounded border border-line bg-ground p-2">
      {e._error && <p className="text-failed">{e._error}</p>}
      <p className="break-all font-mono">{e.request.url}</p>
      <p className="text-soft">
        {parts
          .filter(([k]) => e.timings[k] > 0)
          .map(([k, name]) => `${name} ${took(e.timings[k])}`)
          .join(", ")}
        {e.comment && `; ${e.comment}`}
      </p>
      <Headers title="Sent" pairs={e.request.headers} />
      {e.request.postData && (
        <pre className="max-h-40 overflow-auto font-mono whitespace-pre-wrap">
          {e.request.postData.text || e.request.postData.comment}
        </pre>
      )}
      <Headers title={`Received: ${e.response.status} ${e.response.statusText}`} pairs={e.response.headers} />
      {body.text ? (
        <pre className="max-h-64 overflow-auto font-mono whitespace-pre-wrap">
          {body.encoding === "base64" ? `(binary, ${body.size} bytes)` : body.text}
        </pre>
      ) : (
        <p className="text-soft">{body.comment ?? "no body"}</p>
      )}
    </div>
  );
}

function Headers({ title, pairs }: { title: string; pairs: { name: string; value: string }[] }) {
  return (
    <details>
      <summary className="cursor-pointer">
        {title}, {pairs.length} headers
      </summary>
      <dl className="mt-1 grid grid-cols-[auto_minmax(0,1fr)] gap-x-3">
        {pairs.map((p, i) => (
          <div key={i} className="contents">
            <dt className="text-soft">{p.name}</dt>
            <dd className="break-all">{p.value}</dd>
          </div>
        ))}
      </dl>
    </details>
  );
}
