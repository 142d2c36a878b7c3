// Reads the files of a directory, and of those below it, with packages of others: node read-files.mjs DIRECTORY. It prints, for each directory, rows and the sum of n.
import { readdirSync, readFileSync } from "node:fs";
import { createRequire } from "node:module";
import { dirname, join, relative } from "node:path";
import { pathToFileURL } from "node:url";

const [dir, modules] = process.argv.slice(2);
const require = createRequire(join(modules, "x.js"));
const load = (name, file) =>
  import(pathToFileURL(join(modules, name, file)).href);
const avsc = require("avsc");
const { parquetReadObjects } = await load("hyparquet", "src/node.js").catch(
  () => load("hyparquet", "src/hyparquet.js"),
);
const { compressors } = await load("hyparquet-compressors", "src/index.js");

const rowsOf = (path) => {
  const b = readFileSync(path);
  if (path.endsWith(".parquet")) {
    const file = b.buffer.slice(b.byteOffset, b.byteOffset + b.length);
    return parquetReadObjects({ file, compressors });
  }
  return new Promise((done, fail) => {
    const rows = [];
    const zstd = (data, next) => next(null, compressors.ZSTD(data));
    avsc
      .createFileDecoder(path, {
        codecs: {
          null: (x, next) => next(null, x),
          deflate: avsc.streams.BlockDecoder.getDefaultCodecs().deflate,
          zstandard: zstd,
        },
      })
      .on("data", (r) => rows.push(r))
      .on("error", fail)
      .on("end", () => done(rows));
  });
};

const sums = {};
for (const e of readdirSync(dir, { recursive: true, withFileTypes: true })) {
  if (!e.isFile() || !e.name.startsWith("part-")) continue;
  const path = join(e.parentPath, e.name);
  const of = (sums[relative(dir, dirname(path))] ??= {
    rows: 0,
    n: 0,
    says: 0,
  });
  for (const r of await rowsOf(path)) {
    of.rows++;
    of.n += Number(r.n);
    of.says += (r.says ?? "").length;
  }
}
console.log(JSON.stringify(Object.fromEntries(Object.entries(sums).sort())));
