/** Light and dark theme. Without a choice it follows the machine. */
export type Theme = "light" | "dark";

const KEY = "brisk-herald-theme";

export function currentTheme(): Theme {
  const kept = localStorage.getItem(KEY);
  if (kept === "light" || kept === "dark") return kept;
  return matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light";
}

export function nextTheme(): Theme {
  return currentTheme() === "dark" ? "light" : "dark";
}

export function setTheme(theme: Theme): void {
  localStorage.setItem(KEY, theme);
  document.documentElement.dataset.theme = theme;
}
