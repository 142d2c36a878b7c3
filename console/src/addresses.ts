// Addresses of what lies in places.

/** The directory that an address with a pattern is about. */
export function folder(address: string): string {
  const at = address.search(/[*?[{]/);
  return at < 0 ? address : address.slice(0, address.lastIndexOf("/", at) + 1);
}

/** The addresses above one, the nearest last. */
export function above(start: string, address: string): string[] {
  const out: string[] = [start];
  if (!address.startsWith(start)) return out;
  for (let i = address.indexOf("/", Math.max(start.length, address.indexOf("://") + 3)); i >= 0;) {
    const part = address.slice(0, i + 1);
    if (part.length > start.length && part.length < address.length) out.push(part);
    i = address.indexOf("/", i + 1);
  }
  return out;
}
