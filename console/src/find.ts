// Finds things by their names.

export type Thing = { kind: string; name: string; about: string; to: string };

/**
 * The things that fit what was typed, the best first: each of its words stands in the name, the kind or what is said about it. A name that is the text comes before one that
 * begins with it, that before one that has it, and that before the rest.
 */
export function find(all: Thing[], text: string): Thing[] {
  const words = text.toLowerCase().split(/\s+/).filter(Boolean);
  if (words.length === 0) return all.filter((t) => t.kind !== "function");
  const rank = (t: Thing): number => {
    const name = t.name.toLowerCase();
    const rest = `${t.kind} ${t.about.toLowerCase()}`;
    let sum = 0;
    for (const w of words) {
      if (name === w) continue;
      if (name.startsWith(w)) sum += 1;
      else if (name.includes(w)) sum += 2;
      else if (t.kind.startsWith(w)) sum += 3;
      else if (rest.includes(w)) sum += 6;
      else return -1;
    }
    return sum;
  };
  return all
    .map((t, i) => ({ t, i, r: rank(t) }))
    .filter((x) => x.r >= 0)
    .sort((a, b) => a.r - b.r || a.i - b.i)
    .map((x) => x.t);
}
