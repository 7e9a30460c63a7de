import { useEffect, useRef } from "react";
import { fileAddress, type Session } from "../../api/client";
import { Button } from "../../ui/parts";
import { took } from "../../ui/words";
import { type Command, has } from "./recorded";

interface Props {
  session: Session;
  commands: Command[];
  length: number;
  at: number;
  playing: boolean;
  onAt: (ms: number) => void;
  onPlaying: (on: boolean) => void;
}

/** Pictures on the session's clock: the video where there is one, else the screenshot taken last. */
export function Player({ session, commands, length, at, playing, onAt, onPlaying }: Props) {
  const video = useRef<HTMLVideoElement>(null);
  const filmed = has(session, "video.webm");
  useEffect(() => {
    const v = video.current;
    if (!v || (playing && Math.abs(v.currentTime * 1000 - at) < 600)) return;
    v.currentTime = at / 1000;
  }, [at, playing]);
  useEffect(() => {
    const v = video.current;
    if (!v) return;
    if (playing)
      void v.play().catch(() => {
        onPlaying(false);
      });
    else v.pause();
  }, [playing, onPlaying]);
  // Without a video the clock itself goes on, and the screenshots follow it.
  useEffect(() => {
    if (!playing || filmed) return;
    let from = performance.now();
    let now = at;
    const tick = setInterval(() => {
      now += performance.now() - from;
      from = performance.now();
      if (now >= length) onPlaying(false);
      onAt(Math.min(now, length));
    }, 100);
    return () => {
      clearInterval(tick);
    };
    // Only starting to play sets the clock going.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [playing, filmed, length]);

  const shots = commands.filter((c) => c.shot && has(session, c.shot));
  const last = session.files.find((f) => f.name.startsWith("last."));
  const shown = shots.filter((c) => c.at_ms <= at).at(-1)?.shot ?? shots[0]?.shot ?? last?.name;
  const picture = at >= length - 1 && last ? last.name : shown;
  return (
    <div className="grid gap-2 p-3">
      <div className="grid h-[25rem] place-items-center overflow-hidden rounded border border-line bg-ground">
        {filmed ? (
          <video
            ref={video}
            aria-label="Video of the session"
            src={fileAddress(session.attempt_id, "video.webm")}
            preload="auto"
            muted
            className="max-h-[25rem] max-w-full"
            onTimeUpdate={(e) => {
              if (playing) onAt(e.currentTarget.currentTime * 1000);
            }}
            onEnded={() => {
              onPlaying(false);
              onAt(length);
            }}
          />
        ) : picture ? (
          <img
            src={fileAddress(session.attempt_id, picture)}
            alt={`Screenshot ${picture}`}
            className="max-h-[25rem] max-w-full"
          />
        ) : (
          <p className="px-6 text-center text-soft">
            Nothing was pictured. Ask for it with{" "}
            <code className="font-mono text-ink">
              record: {"{"}&quot;video&quot;: &quot;always&quot;, &quot;screenshots&quot;: &quot;always&quot;
              {"}"}
            </code>
            , or for the whole project with{" "}
            <code className="font-mono text-ink">pane record {session.project} video=always</code>.
          </p>
        )}
      </div>
      <Clock commands={commands} shots={shots} length={length} at={at} onAt={onAt} />
      <div className="flex items-center gap-3 text-sm">
        <Button
          onClick={() => {
            onPlaying(!playing);
          }}
          disabled={length === 0}
        >
          {playing ? "Pause" : "Play"}
        </Button>
        <span>
          {took(at)} <span className="text-soft">of {took(length)}</span>
        </span>
        <span className="ml-auto text-xs text-soft">
          Space plays, ← and → step by command, N goes to the next failure
        </span>
      </div>
    </div>
  );
}

/** The time line: a mark for each command, a dot for each screenshot. */
function Clock({
  commands,
  shots,
  length,
  at,
  onAt,
}: {
  commands: Command[];
  shots: Command[];
  length: number;
  at: number;
  onAt: (ms: number) => void;
}) {
  const x = (ms: number) => `${length > 0 ? Math.min(100, (100 * ms) / length) : 0}%`;
  return (
    <div className="relative h-10 rounded border border-line bg-ground">
      {commands.map((c) => (
        <span
          key={c.number}
          title={`${c.name} at ${took(c.at_ms)}`}
          className={`absolute top-1 h-4 min-w-[3px] rounded-sm ${c.error ? "bg-failed" : "bg-accent/60"}`}
          style={{ left: x(c.at_ms), width: x(Math.max(c.took_ms, 1)) }}
        />
      ))}
      {shots.map((c) => (
        <span
          key={c.number}
          className="absolute bottom-1.5 size-1.5 rounded-full bg-soft"
          style={{ left: `min(${x(c.at_ms + c.took_ms)}, 100% - 6px)` }}
        />
      ))}
      <span className="pointer-events-none absolute inset-y-0 w-0.5 bg-ink" style={{ left: x(at) }} />
      <input
        type="range"
        aria-label="Time in the session"
        min={0}
        max={Math.max(1, Math.round(length))}
        value={Math.round(at)}
        onChange={(e) => {
          onAt(Number(e.target.value));
        }}
        className="absolute inset-0 h-full w-full cursor-pointer opacity-0 focus-visible:opacity-20"
      />
    </div>
  );
}
