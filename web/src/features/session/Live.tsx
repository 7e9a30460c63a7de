import { useMutation } from "@tanstack/react-query";
import { useEffect, useRef, useState, type KeyboardEvent, type MouseEvent } from "react";
import { picture, post, Problem, type Session } from "../../api/client";
import { Button, Trouble } from "../../ui/parts";

const named = [
  "Backspace",
  "Tab",
  "Enter",
  "Escape",
  "PageUp",
  "PageDown",
  "End",
  "Home",
  "ArrowLeft",
  "ArrowUp",
  "ArrowRight",
  "ArrowDown",
  "Delete",
];

/** The picture of an open session, and the hands to act in it. */
export function Live({ session: s, onGone }: { session: Session; onGone: () => void }) {
  const [image, setImage] = useState<string>();
  const [trouble, setTrouble] = useState("");
  const [mine, setMine] = useState(false);
  const [source, setSource] = useState<string>();
  const gone = useRef(onGone);
  useEffect(() => {
    gone.current = onGone;
  });
  useEffect(() => {
    const over = new AbortController();
    let shown: string | undefined;
    const watch = async () => {
      for (let number = 0; !over.signal.aborted;) {
        try {
          const p = await picture(s.id, number);
          if (p !== null) {
            const old = shown;
            shown = URL.createObjectURL(p.image);
            setImage(shown);
            setTrouble("");
            if (old) URL.revokeObjectURL(old);
            number = p.number;
          }
        } catch (e) {
          if (e instanceof Problem && e.status === 404) {
            gone.current();
            return;
          }
          setTrouble((e as Error).message);
          await new Promise((r) => setTimeout(r, 1000));
        }
      }
    };
    void watch();
    return () => {
      over.abort();
      if (shown) URL.revokeObjectURL(shown);
    };
  }, [s.id]);

  const hand = useMutation({
    mutationFn: (h: Record<string, unknown>) => post<{ said: string }>(`/sessions/${s.id}/hand`, h),
  });
  const act = (h: Record<string, unknown>) => {
    hand.mutate(h);
  };
  const place = (e: { clientX: number; clientY: number; currentTarget: Element }) => {
    const box = e.currentTarget.getBoundingClientRect();
    return {
      x: Math.min(1, Math.max(0, (e.clientX - box.left) / box.width)),
      y: Math.min(1, Math.max(0, (e.clientY - box.top) / box.height)),
    };
  };
  // What is typed quickly goes as one piece, and in order.
  const typed = useRef("");
  const pause = useRef<ReturnType<typeof setTimeout>>(undefined);
  const flush = async () => {
    clearTimeout(pause.current);
    const text = typed.current;
    typed.current = "";
    if (text !== "") await hand.mutateAsync({ do: "type", text });
  };
  const key = (e: KeyboardEvent) => {
    if (!mine || e.ctrlKey || e.metaKey || e.altKey) return;
    if (e.key.length === 1) {
      e.preventDefault();
      typed.current += e.key;
      clearTimeout(pause.current);
      pause.current = setTimeout(() => void flush(), 120);
    } else if (named.includes(e.key)) {
      e.preventDefault();
      void flush().then(() => {
        act({ do: "key", key: e.key });
      });
    }
  };
  const frame = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const box = frame.current;
    if (!box || !mine) return;
    let waiting = 0;
    const wheel = (e: WheelEvent) => {
      // React's own handler may not keep the page from scrolling
      e.preventDefault();
      waiting += e.deltaY;
      const img = box.querySelector("img");
      if (!img || Math.abs(waiting) < 40) return;
      const at = img.getBoundingClientRect();
      hand.mutate({
        do: "scroll",
        x: Math.min(1, Math.max(0, (e.clientX - at.left) / at.width)),
        y: Math.min(1, Math.max(0, (e.clientY - at.top) / at.height)),
        dx: 0,
        dy: Math.round(waiting),
      });
      waiting = 0;
    };
    box.addEventListener("wheel", wheel, { passive: false });
    return () => {
      box.removeEventListener("wheel", wheel);
    };
    // eslint-disable-next-line react-hooks/exhaustive-deps -- the mutation is another object in every render
  }, [mine]);
  useEffect(() => {
    if (!mine) return;
    // Whoever leaves the page lets the session go; one that is let go already says so, which is no trouble.
    return () => {
      void post(`/sessions/${s.id}/hand`, { do: "let-go" }).catch(() => undefined);
    };
  }, [mine, s.id]);
  const take = async (on: boolean) => {
    await hand.mutateAsync({ do: on ? "reach" : "let-go" });
    setMine(on);
    if (on) frame.current?.focus();
  };
  return (
    <div className="grid gap-2 p-3">
      <div
        ref={frame}
        tabIndex={mine ? 0 : -1}
        onKeyDown={key}
        aria-label={mine ? "The session: click, type and scroll in it" : "The session as it is"}
        className={`grid min-h-64 place-items-center overflow-hidden rounded border bg-ground ${mine ? "border-flaky" : "border-line"}`}
      >
        {image ? (
          <img
            src={image}
            alt="What the session shows now"
            draggable={false}
            className={`max-h-[30rem] max-w-full ${mine ? "cursor-crosshair" : ""}`}
            onClick={(e: MouseEvent) => {
              if (mine) {
                frame.current?.focus();
                const at = place(e);
                void flush().then(() => {
                  act({ do: "click", ...at });
                });
              }
            }}
          />
        ) : (
          <p className="text-soft">{trouble || "Waiting for the first picture …"}</p>
        )}
      </div>
      <div className="flex flex-wrap items-center gap-3 text-sm">
        {mine ? (
          <Button kind="accent" onClick={() => void flush().then(() => take(false))}>
            Let go
          </Button>
        ) : (
          <Button onClick={() => void take(true)}>Reach in</Button>
        )}
        {mine && (
          <Button
            onClick={() => {
              void hand.mutateAsync({ do: "source" }).then((v) => {
                setSource(v.said);
              });
            }}
          >
            Page source
          </Button>
        )}
        <span className="text-soft">
          {mine
            ? "The runner's commands wait. Click, type and scroll in the picture."
            : "Live. Nothing is captured while nobody looks."}
        </span>
      </div>
      {hand.error && <Trouble error={hand.error} />}
      {source !== undefined && (
        <pre
          aria-label="Page source"
          className="max-h-72 overflow-auto rounded border border-line bg-ground p-3 font-mono text-xs whitespace-pre-wrap"
        >
          {source}
        </pre>
      )}
    </div>
  );
}
