import { useState } from "react";
import { type Beside, fileAddress } from "../../api/client";
import { Empty, Sheet } from "../../ui/parts";

const views: [string, string][] = [
  ["", "Side by side"],
  ["slider", "Slider"],
  ["fade", "Fade"],
  ["overlay", "What differs"],
];

/** The pictures of a row: beside each other, one over the other with a slider or fading, or what differs between them. */
export function Pictures({
  b,
  row,
  view,
  onView,
}: {
  b: Beside;
  row: number;
  view: string;
  onView: (view: string) => void;
}) {
  const [edge, setEdge] = useState(50);
  const r = b.rows[row];
  const left = r?.l?.picture ? fileAddress(b.left.attempt, r.l.picture) : "";
  const right = r?.r?.picture ? fileAddress(b.right.attempt, r.r.picture) : "";
  const both = left !== "" && right !== "";
  return (
    <Sheet
      title={r ? `Pictures of step ${row + 1}` : "Pictures"}
      className="self-start"
      aside={
        both && (
          <div role="group" aria-label="How pictures are shown" className="flex gap-1">
            {views.map(([v, name]) => (
              <button
                key={v}
                type="button"
                aria-pressed={view === v}
                className={`rounded border px-2 py-1 text-xs ${view === v ? "border-accent" : "border-line text-soft"}`}
                onClick={() => {
                  onView(v);
                }}
              >
                {name}
              </button>
            ))}
          </div>
        )
      }
    >
      {!left && !right ? (
        <Empty title="No picture of this step">
          Choose another step, or record pictures of passing tests too (--record screenshots=always).
        </Empty>
      ) : (view === "slider" || view === "fade") && both ? (
        <div className="grid gap-2 p-4">
          <div className="relative overflow-hidden rounded border border-line bg-white">
            <img className="w-full" src={left} alt={b.left.label} />
            <img
              className="absolute inset-0 w-full bg-white"
              style={view === "fade" ? { opacity: edge / 100 } : { clipPath: `inset(0 0 0 ${edge}%)` }}
              src={right}
              alt={b.right.label}
            />
            {view === "slider" && (
              <span className="absolute inset-y-0 w-px bg-accent" style={{ left: `${edge}%` }} />
            )}
          </div>
          <label className="flex items-center gap-3 text-xs text-soft">
            {b.left.label}
            <input
              type="range"
              className="grow"
              aria-label={
                view === "fade"
                  ? "How much of the second picture is seen"
                  : "Where one picture ends and the other begins"
              }
              value={edge}
              onChange={(e) => {
                setEdge(Number(e.target.value));
              }}
            />
            {b.right.label}
          </label>
        </div>
      ) : view === "overlay" && both ? (
        <div className="grid gap-2 p-4">
          <div className="relative isolate overflow-hidden rounded border border-line bg-white">
            <img className="w-full" src={left} alt={b.left.label} />
            <img className="absolute inset-0 w-full mix-blend-difference" src={right} alt={b.right.label} />
          </div>
          <p className="text-xs text-soft">What is alike in both is black.</p>
        </div>
      ) : (
        <div className="grid grid-cols-2 gap-3 p-4">
          <One label={b.left.label} address={left} own={r?.l?.own ?? false} />
          <One label={b.right.label} address={right} own={r?.r?.own ?? false} />
        </div>
      )}
    </Sheet>
  );
}

function One({ label, address, own }: { label: string; address: string; own: boolean }) {
  return (
    <figure className="grid content-start gap-1">
      {address ? (
        <a href={address} target="_blank" rel="noreferrer">
          <img
            className="max-h-[26rem] max-w-full rounded border border-line bg-white"
            src={address}
            alt={label}
          />
        </a>
      ) : (
        <p className="rounded border border-line px-3 py-8 text-center text-sm text-soft">
          No picture was kept
        </p>
      )}
      <figcaption className="text-xs text-soft">
        {label}
        {address && !own && ", the last picture before"}
      </figcaption>
    </figure>
  );
}
