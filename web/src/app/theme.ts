import { useEffect, useState } from "react";

/** survey (light) or nightwatch (dark), remembered by this browser. */
export function useTheme(): [string, () => void] {
  const [theme, setTheme] = useState(() => localStorage.getItem("theme") ?? "survey");
  useEffect(() => {
    document.documentElement.dataset.theme = theme;
    localStorage.setItem("theme", theme);
  }, [theme]);
  return [theme, () => setTheme(theme === "survey" ? "nightwatch" : "survey")];
}
