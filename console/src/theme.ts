// Light or dark: as the system says, or as was chosen.
const kept = "fiume.theme";
export type Theme = "system" | "light" | "dark";

export const theme = (): Theme => (localStorage.getItem(kept) as Theme | null) ?? "system";

export function setTheme(t: Theme) {
  localStorage.setItem(kept, t);
  apply();
}

const dark = matchMedia("(prefers-color-scheme: dark)");

function apply() {
  const t = theme();
  document.documentElement.dataset.theme = t === "system" ? (dark.matches ? "dark" : "light") : t;
}

dark.addEventListener("change", apply);
apply();

/** The value of a colour of the theme, for what is drawn on a canvas. */
export const colour = (name: string) =>
  getComputedStyle(document.documentElement).getPropertyValue(`--color-${name}`).trim();
