import { useEffect } from "react";

/** Gives the tab a title of its own while a page is shown; parts that are not known yet are left out. */
export function useTitle(...parts: (string | undefined)[]) {
  const title = [...parts, "Parallel Pane"].filter(Boolean).join(" · ");
  useEffect(() => {
    document.title = title;
  }, [title]);
}
