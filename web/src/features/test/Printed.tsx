import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { get, type Output } from "../../api/client";

/** What a command prints while it runs: the latest of it. */
export function Printed({ run, test, pane }: { run: number; test: number; pane: number }) {
  const queries = useQueryClient();
  const key = ["output", run, test, pane];
  const end = useRef<HTMLPreElement>(null);
  const output = useQuery({
    queryKey: key,
    queryFn: async () => {
      const known = queries.getQueryData<Output>(key);
      const o = await get<Output>(
        `/runs/${run}/tests/${test}/panes/${pane}/output?from=${known?.live ? known.next : 0}`,
      );
      if (!o.live || known?.attempt !== o.attempt) return o;
      return { ...o, text: (known.text + o.text).slice(-100_000) };
    },
    refetchInterval: 700,
  });
  const text = output.data?.text ?? "";
  useEffect(() => {
    end.current?.scrollTo({ top: end.current.scrollHeight });
  }, [text]);
  if (!output.data?.live) return null;
  return (
    <section className="border-t border-line px-4 py-3">
      <h3 className="text-xs text-soft">What the command prints now</h3>
      <pre ref={end} className="mt-1 max-h-80 overflow-auto font-mono text-xs leading-5" aria-live="off">
        {text || "Nothing yet."}
      </pre>
    </section>
  );
}
