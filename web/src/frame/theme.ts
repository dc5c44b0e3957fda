// Light, dark, or as the system has it. Kept in the browser: a taste, not data.
const key = "orchard-theme";
export type Theme = "light" | "dark" | "system";

export function theme(): Theme {
  const t = localStorage.getItem(key);
  return t === "light" || t === "dark" ? t : "system";
}

export function setTheme(t: Theme) {
  localStorage.setItem(key, t);
  applyTheme();
}

export function applyTheme() {
  const dark = theme() === "dark" || (theme() === "system" && matchMedia("(prefers-color-scheme: dark)").matches);
  document.documentElement.classList.toggle("dark", dark);
  document.documentElement.classList.toggle("light", !dark);
  document.documentElement.style.colorScheme = dark ? "dark" : "light";
}
