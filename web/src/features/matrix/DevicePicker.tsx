import { useQuery } from "@tanstack/react-query";
import { clsx } from "clsx";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { get, type Device } from "../../api/client";
import { Button, Empty, Field, Trouble, Waiting } from "../../ui/parts";

/** Picks devices of the catalogue, by family, by a word or by a size. */
export function DevicePicker({
  chosen,
  onChange,
}: {
  chosen: string[];
  onChange: (name: string, on: boolean) => void;
}) {
  return (
    <Dialog.Root>
      <Dialog.Trigger asChild>
        <Button className="text-xs">Choose devices …</Button>
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-30 bg-black/50" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed left-1/2 top-[6vh] z-30 grid max-h-[88vh] w-[min(64rem,94vw)] -translate-x-1/2 grid-rows-[auto_minmax(0,1fr)_auto] rounded-md border border-line bg-sheet shadow-xl"
        >
          <Catalogue chosen={chosen} onChange={onChange} />
          <footer className="flex items-center border-t border-line px-4 py-2.5 text-sm text-soft">
            {chosen.length === 0 ? "None is chosen" : `${chosen.length} chosen`}
            <Dialog.Close asChild>
              <Button className="ml-auto">Done</Button>
            </Dialog.Close>
          </footer>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function useDevices(query: string) {
  return useQuery({
    queryKey: ["devices", query],
    queryFn: () => get<Device[]>(`/devices${query}`),
    staleTime: Infinity,
  });
}

const sizeForm = /^\d{2,4}[x×]\d{2,4}$/;

function Catalogue({
  chosen,
  onChange,
}: {
  chosen: string[];
  onChange: (name: string, on: boolean) => void;
}) {
  const [find, setFind] = useState("");
  const [family, setFamily] = useState("");
  const typed = find.trim().toLowerCase();
  const bySize = sizeForm.test(typed);
  const all = useDevices("");
  const near = useDevices(bySize ? `?like=${typed}${family && `&family=${family}`}` : "");
  const asked = bySize ? near : all;
  const families = [...new Set((all.data ?? []).map((d) => d.family ?? ""))];
  const found = (asked.data ?? []).filter(
    (d) =>
      bySize || ((!family || d.family === family) && `${d.name} ${d.title}`.toLowerCase().includes(typed)),
  );
  return (
    <>
      <header className="flex flex-wrap items-center gap-3 border-b border-line px-4 py-2.5">
        <Dialog.Title className="font-medium">Devices</Dialog.Title>
        <div className="flex flex-wrap gap-1" role="group" aria-label="Family">
          {["", ...families].map((f) => (
            <button
              key={f}
              type="button"
              aria-pressed={family === f}
              onClick={() => {
                setFamily(f);
              }}
              className={clsx(
                "rounded border px-2 py-0.5 text-xs",
                family === f ? "border-accent text-ink" : "border-line text-soft hover:text-ink",
              )}
            >
              {f || "all"}
            </button>
          ))}
        </div>
        <Field
          label="Find by name, or by size: 390x844"
          value={find}
          onChange={(e) => {
            setFind(e.target.value);
          }}
          size={36}
          className="ml-auto"
          autoFocus
        />
      </header>
      <div className="overflow-y-auto p-4">
        {asked.isPending && <Waiting />}
        {asked.error && <Trouble error={asked.error} again={() => void asked.refetch()} />}
        {asked.data && found.length === 0 && (
          <Empty title="No device is like that">
            Type less, or choose all families. A device of your own goes into pane.yaml, under devices.
          </Empty>
        )}
        {(bySize ? [""] : families).map((f) => {
          const these = bySize ? found : found.filter((d) => (d.family ?? "") === f);
          if (these.length === 0) return null;
          return (
            <section key={f} className="mb-4 last:mb-0">
              <h3 className="mb-1.5 text-xs text-soft">
                {bySize ? `nearest to ${typed}` : f}, {these.length}
              </h3>
              <ul className="grid grid-cols-[repeat(auto-fill,minmax(17rem,1fr))] gap-1.5">
                {these.map((d) => (
                  <li key={d.name}>
                    <One
                      device={d}
                      on={chosen.includes(d.name)}
                      onChange={(on) => {
                        onChange(d.name, on);
                      }}
                    />
                  </li>
                ))}
              </ul>
            </section>
          );
        })}
      </div>
    </>
  );
}

function One({ device: d, on, onChange }: { device: Device; on: boolean; onChange: (on: boolean) => void }) {
  const [w = 0, h = 0] = d.size.split("x").map(Number);
  return (
    <button
      type="button"
      aria-pressed={on}
      title={d.source}
      onClick={() => {
        onChange(!on);
      }}
      className={clsx(
        "flex w-full items-center gap-3 rounded border px-2.5 py-1.5 text-left text-sm",
        on ? "border-accent bg-accent/15" : "border-line hover:bg-raised/50",
      )}
    >
      <Outline width={w} height={h} />
      <span className="min-w-0">
        <span className="block truncate">{d.name}</span>
        <span className="block truncate text-xs text-soft tabular-nums">
          {w}×{h}, {d.density}×{d.touch ? ", touch" : ""}
          {d.network ? `, ${d.network} network` : ""}
          {d.cpu ? `, ${d.cpu}× slower` : ""}
        </span>
      </span>
    </button>
  );
}

/** The shape of a device; of two the larger is drawn larger, though by less than it is. */
function Outline({ width, height }: { width: number; height: number }) {
  const long = Math.max(width, height);
  const scale = (34 * Math.pow(long / 3840, 0.4)) / long;
  const [w, h] = [width * scale, height * scale];
  return (
    <svg width={36} height={36} aria-hidden="true" className="shrink-0 text-soft">
      <rect
        x={(36 - w) / 2}
        y={(36 - h) / 2}
        width={w}
        height={h}
        rx={2}
        fill="none"
        stroke="currentColor"
        strokeWidth={1.5}
      />
    </svg>
  );
}
