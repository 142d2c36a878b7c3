// Reads an open table of the format Delta whose files lie in directories: node read-ledger.mjs DIRECTORY MODULES. The log is read here, by its public protocol, and
// files of Parquet with a package of others. It prints the rows, and to stderr what the newest checkpoint says of the files it knows.
import { readFileSync, readdirSync } from "node:fs";
import { join } from "node:path";
import { pathToFileURL } from "node:url";

const [dir, modules] = process.argv.slice(2);
const from = (name, ...path) =>
  import(pathToFileURL(join(modules, name, ...path)).href);
const { parquetReadObjects } = await from("hyparquet", "src", "index.js");
const { compressors } = await from("hyparquet-compressors", "src", "index.js");

const parquet = (path) => {
  const b = readFileSync(path);
  const file = b.buffer.slice(b.byteOffset, b.byteOffset + b.byteLength);
  return parquetReadObjects({ file, compressors });
};

const log = join(dir, "_delta_log");
const names = readdirSync(log);
const files = new Map();
const take = (a) => {
  if (a.add) files.set(a.add.path, a.add);
  if (a.remove) files.delete(a.remove.path);
};
const checkpoint = names
  .filter((n) => /^\d{20}\.checkpoint\.parquet$/.test(n))
  .sort()
  .at(-1);
const begin = checkpoint?.slice(0, 20) ?? "";

// What a checkpoint says, and what the entries say that it sums up, must be the same.
const before = new Map();
for (const n of names.filter((n) => /^\d{20}\.json$/.test(n)).sort()) {
  const entry = readFileSync(join(log, n), "utf8")
    .split("\n")
    .filter(Boolean)
    .map((l) => JSON.parse(l));
  if (n.slice(0, 20) <= begin) {
    for (const a of entry) if (a.add) before.set(a.add.path, a.add);
  }
}
if (checkpoint) {
  for (const a of await parquet(join(log, checkpoint))) take(a);
  console.error(`${checkpoint}: ${files.size} files`);
  for (const [path, a] of before) {
    const b = files.get(path);
    if (!b || Number(b.size) !== a.size || b.stats !== a.stats)
      throw new Error(`the checkpoint says something else of ${path}`);
  }
  if (before.size !== files.size)
    throw new Error(`the checkpoint has ${files.size} files of ${before.size}`);
}
for (const n of names.filter((n) => /^\d{20}\.json$/.test(n)).sort()) {
  if (n.slice(0, 20) > begin)
    for (const l of readFileSync(join(log, n), "utf8")
      .split("\n")
      .filter(Boolean))
      take(JSON.parse(l));
}
for (const a of files.values()) {
  const rows = await parquet(join(dir, decodeURIComponent(a.path)));
  if (rows.length !== JSON.parse(a.stats).numRecords)
    throw new Error(`${a.path} has ${rows.length} rows: ${a.stats}`);
  for (const r of rows)
    console.log(
      JSON.stringify({ ...r, ...a.partitionValues }, (_, v) =>
        typeof v === "bigint" ? Number(v) : v,
      ),
    );
}
