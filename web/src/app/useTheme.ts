import { useEffect, useState } from "react";

export type Theme = "dark" | "light";
const key = "pane-theme";

function preferred(): Theme {
  const kept = localStorage.getItem(key);
  if (kept === "dark" || kept === "light") return kept;
  return matchMedia("(prefers-color-scheme: light)").matches ? "light" : "dark";
}

/** The theme: what was chosen here, else what the system prefers. */
export function useTheme(): [Theme, (t: Theme) => void] {
  const [theme, setTheme] = useState(preferred);
  useEffect(() => {
    document.documentElement.dataset.theme = theme;
  }, [theme]);
  return [
    theme,
    (t) => {
      localStorage.setItem(key, t);
      setTheme(t);
    },
  ];
}
