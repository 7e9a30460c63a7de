import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { lazy, Suspense, useState } from "react";
import { Link } from "react-router";
import { get, post, type Cause, type Defect, type DefectForm } from "../../api/client";
import { Button, Choice, Sheet, Trouble, Waiting } from "../../ui/parts";
import { many } from "../../ui/words";
import { Filed } from "./Filed";

const TrackerForm = lazy(() => import("./TrackerForm").then((m) => ({ default: m.TrackerForm })));

/** The defect of a cause, or the tracker's form to file one with. */
export function FileDefect({ run, cause, queryKey }: { run: number; cause: Cause; queryKey: unknown[] }) {
  const [open, setOpen] = useState(location.hash === "#defect");
  const queries = useQueryClient();
  const d = cause.defect;
  const after = async () => {
    await queries.invalidateQueries({ queryKey });
    await queries.invalidateQueries({ queryKey: ["causes"] });
    await queries.invalidateQueries({ queryKey: ["defects"] });
  };
  return (
    <Sheet
      title={d ? "The defect of this cause" : "A defect of this cause"}
      aside={
        <Link className="text-sm text-accent hover:underline" to="/defects">
          All defects
        </Link>
      }
    >
      {d && <Filed defect={d} after={after} />}
      {(!d || d.state === "refused") &&
        (open ? (
          <Filling
            run={run}
            cause={cause.id}
            after={after}
            onClose={() => {
              setOpen(false);
            }}
          />
        ) : (
          <p className="flex items-center gap-3 p-4 text-sm text-soft">
            <Button
              kind="accent"
              onClick={() => {
                setOpen(true);
              }}
            >
              {d ? "File it again" : "File a defect"}
            </Button>
            The tracker&apos;s form comes filled in with what is known; a title and a severity are yours.
          </p>
        ))}
    </Sheet>
  );
}

function Filling({
  run,
  cause,
  after,
  onClose,
}: {
  run: number;
  cause: string;
  after: () => Promise<void>;
  onClose: () => void;
}) {
  const [tracker, setTracker] = useState("");
  const path = `/runs/${run}/causes/${encodeURIComponent(cause)}/defect`;
  const found = useQuery({
    queryKey: ["defect form", run, cause, tracker],
    queryFn: () => get<DefectForm>(`${path}?${new URLSearchParams(tracker && { tracker })}`),
    staleTime: Infinity,
    retry: false,
  });
  const file = useMutation({
    mutationFn: (values: Record<string, unknown>) =>
      post<Defect>(path, {
        tracker: found.data?.tracker.id,
        values,
        anyway: (found.data?.like.length ?? 0) > 0,
      }),
    onSuccess: after,
  });
  const same = useMutation({
    mutationFn: (key: string) => post<Defect>(path, { tracker: found.data?.tracker.id, same: key }),
    onSuccess: after,
  });
  if (found.isPending) return <Waiting />;
  if (found.error)
    return (
      <div className="p-4">
        <Trouble error={found.error} again={() => void found.refetch()} />
      </div>
    );
  const f = found.data;
  return (
    <div className="grid gap-4 p-4">
      {f.trackers.length > 1 && (
        <label className="flex items-center gap-2 text-sm">
          Tracker
          <Choice
            label="Tracker"
            value={f.tracker.id}
            onChange={setTracker}
            options={f.trackers.map((t) => [t.id, t.name])}
          />
        </label>
      )}
      {f.trouble && <p className="text-sm text-flaky">{f.trouble}</p>}
      {f.like.length > 0 && (
        <section
          aria-label="It may be filed already"
          className="rounded border border-flaky px-3 py-2 text-sm"
        >
          <h3 className="font-medium">It may be filed already</h3>
          <ul>
            {f.like.map((l) => (
              <li key={l.key} className="flex items-center gap-3 py-1">
                <span className="min-w-0 truncate">
                  {l.link ? (
                    <a className="text-accent hover:underline" href={l.link} target="_blank" rel="noreferrer">
                      {l.key}
                    </a>
                  ) : (
                    l.key
                  )}{" "}
                  {l.title}
                  <span className="text-soft">
                    , {l.status}; {l.why}
                  </span>
                </span>
                <Button
                  className="ml-auto text-xs whitespace-nowrap"
                  disabled={same.isPending}
                  onClick={() => {
                    same.mutate(l.key);
                  }}
                >
                  It is this one
                </Button>
              </li>
            ))}
          </ul>
          {same.error && <Trouble error={same.error} />}
        </section>
      )}
      <Suspense fallback={<Waiting />}>
        <TrackerForm
          key={f.tracker.id}
          form={f}
          busy={file.isPending}
          onFile={(values) => {
            file.mutate(values);
          }}
          onClose={onClose}
        />
      </Suspense>
      {f.pictures > 0 && (
        <p className="text-sm text-soft">{many(f.pictures, "picture")} of the failing page go with it.</p>
      )}
      {file.error && <Trouble error={file.error} />}
    </div>
  );
}
