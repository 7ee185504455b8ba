// Day or night: as the system says, unless chosen here.
const key = "bspan-theme";

export type Theme = "day" | "night";

export function currentTheme(): Theme {
  const chosen = localStorage.getItem(key);
  if (chosen === "day" || chosen === "night") return chosen;
  return matchMedia("(prefers-color-scheme: dark)").matches ? "night" : "day";
}

export function applyTheme(theme = currentTheme()) {
  document.documentElement.dataset.theme = theme;
}

export function chooseTheme(theme: Theme) {
  localStorage.setItem(key, theme);
  applyTheme(theme);
}
