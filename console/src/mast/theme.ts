import { useEffect, useState } from "react";

const KEPT = "windbreak-theme";

function first(): "light" | "dark" {
  const kept = localStorage.getItem(KEPT);
  if (kept === "light" || kept === "dark") return kept;
  return window.matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light";
}

/** Light or dark: what was chosen, else what the system says. */
export function useTheme(): ["light" | "dark", () => void] {
  const [theme, setTheme] = useState(first);
  useEffect(() => {
    document.documentElement.dataset.theme = theme;
  }, [theme]);
  const turn = () => {
    const next = theme === "dark" ? "light" : "dark";
    localStorage.setItem(KEPT, next);
    setTheme(next);
  };
  return [theme, turn];
}
