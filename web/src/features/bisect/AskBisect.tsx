import { useMutation } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import { post, type Bisect } from "../../api/client";
import { Button } from "../../ui/parts";

/** Begins a search for what broke a test in one combination. */
export function AskBisect({ run, test, pane }: { run: number; test: string; pane: string }) {
  const go = useNavigate();
  const ask = useMutation({
    mutationFn: (axis: string) => post<Bisect>(`/runs/${run}/bisect`, { test, axis, pane }),
    onSuccess: (b) => go(`/bisects/${b.id}`),
  });
  return (
    <div className="flex flex-wrap items-center gap-2 border-t border-line px-4 py-3 text-sm">
      <span className="text-soft">Which one broke it?</span>
      {[
        ["version", "Look along the browser's versions"],
        ["bundle", "Look along the suite's files"],
      ].map(([axis = "", label]) => (
        <Button
          key={axis}
          className="text-xs"
          disabled={ask.isPending}
          onClick={() => {
            ask.mutate(axis);
          }}
        >
          {label}
        </Button>
      ))}
      {ask.error && <span className="w-full text-xs text-failed">{ask.error.message}</span>}
    </div>
  );
}
