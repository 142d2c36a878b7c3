// Reads an open table whose files lie in directories with a package of others: node read-lake.mjs DIRECTORY MODULES [METADATA]. It prints the rows.
import { closeSync, fstatSync, openSync, readSync } from "node:fs";
import { join } from "node:path";
import { pathToFileURL } from "node:url";
import { inflateRawSync } from "node:zlib";

const [dir, modules, metadataFileName] = process.argv.slice(2);

// The package unpacks blocks of Avro with a reader of another form of deflate: they are handed to it unpacked.
const unpacked = (b) => {
  let at = 4;
  const long = () => {
    let n = 0;
    for (let k = 1; ; k *= 128) {
      n += (b[at] & 127) * k;
      if (b[at++] < 128) return n % 2 ? -(n + 1) / 2 : n / 2;
    }
  };
  const take = () => {
    const n = long();
    return b.subarray(at, (at += n));
  };
  const written = (n) => {
    const out = [];
    for (n *= 2; n >= 128; n = Math.floor(n / 128)) out.push((n % 128) | 128);
    return Buffer.from([...out, n]);
  };
  const head = [];
  for (let n; (n = long()) !== 0;) {
    for (; n > 0; n--) {
      const key = take();
      const value = take();
      head.push([
        key,
        String(key) === "avro.codec" ? Buffer.from("null") : value,
      ]);
    }
  }
  const sync = b.subarray(at, (at += 16));
  const out = [b.subarray(0, 4), written(head.length)];
  for (const [k, v] of head)
    out.push(written(k.length), k, written(v.length), v);
  out.push(written(0), sync);
  while (at < b.length) {
    const count = long();
    const data = inflateRawSync(take());
    at += 16;
    out.push(written(count), written(data.length), data, sync);
  }
  return Buffer.concat(out);
};

// The package fetches what it reads, also by ranges; here that comes from the disk.
globalThis.fetch = async (url, init) => {
  const path = String(url).replace(/^file:\/\//, "");
  let file;
  try {
    file = openSync(path, "r");
  } catch {
    return new Response("", { status: 404 });
  }
  const range = /bytes=(\d+)-(\d*)/.exec(
    new Headers(init?.headers).get("Range") ?? "",
  );
  const size = fstatSync(file).size;
  const from = range ? Number(range[1]) : 0;
  const to = range?.[2] ? Math.min(Number(range[2]) + 1, size) : size;
  let b = Buffer.alloc(to - from);
  readSync(file, b, 0, b.length, from);
  closeSync(file);
  if (path.endsWith(".avro")) b = unpacked(b);
  return new Response(b, {
    status: range ? 206 : 200,
    headers: { "Content-Length": String(b.length) },
  });
};

const { icebergRead } = await import(
  pathToFileURL(join(modules, "icebird", "src", "index.js")).href
);
const rows = await icebergRead({ tableUrl: dir, metadataFileName });
for (const r of rows) {
  console.log(
    JSON.stringify(r, (_, v) => (typeof v === "bigint" ? Number(v) : v)),
  );
}
