// The texts of the console: the code asks for them by their English words, which texts/en.json lists for who translates. A text that a language lacks is shown in English. Numbers are
// written as the language does.

/** The texts of each language but English, which stands in the code: a file texts/CODE.json makes one more. */
const files = import.meta.glob<Record<string, string>>(["./texts/*.json", "!./texts/en.json"], {
  import: "default",
  eager: true,
});
const all = Object.fromEntries(
  Object.entries(files).map(([f, texts]) => [f.slice("./texts/".length, -".json".length), texts]),
);

/** The codes of all languages there are. */
export const languages = ["en", ...Object.keys(all)].sort();

const kept = "fiume.language";

/** The language that was chosen, or that the browser asks for, or English. */
export const language =
  [globalThis.localStorage?.getItem(kept), ...(globalThis.navigator?.languages ?? [])]
    .map((l) => l?.split("-")[0])
    .find((l) => l && languages.includes(l)) ?? "en";

const texts = all[language] ?? {};

/** Shows the console in another language from now on, in this browser. */
export function setLanguage(code: string) {
  localStorage.setItem(kept, code);
  location.reload();
}

/** How numbers are written. */
export const locale = language === "en" ? "en-US" : language;

type Values = Record<number, string | number>;

/** A text as some texts have it; what stands in it in double braces is put in by its number. */
export const said = (texts: Record<string, string>, text: string, values: Values = {}): string =>
  (texts[text] ?? text).replace(/\{\{(\d+)\}\}/g, (place, n) => String(values[Number(n)] ?? place));

/** A text in the language of whoever looks. */
export const say = (text: string, values?: Values): string => said(texts, text, values);
