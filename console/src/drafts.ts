// Texts that are being written: kept in the browser, so that a reload loses nothing.
const kept = "fiume.draft";

export const draft = () => localStorage.getItem(kept) ?? "";
export const keepDraft = (text: string) => localStorage.setItem(kept, text);

/** Puts a text behind what is being written, so that nothing of it is lost. */
export function addToDraft(text: string) {
  const old = draft().trim();
  keepDraft(
    old && !old.includes(text.trim()) ? `${old.replace(/;?\s*$/, ";")}\n\n${text.trim()}\n` : `${text.trim()}\n`,
  );
}
