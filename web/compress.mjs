/** Beside every asset that is text its compressed forms, which the server gives to who takes them. */
import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { brotliCompressSync, gzipSync } from "node:zlib";

const assets = new URL("../src/myriant/web/assets/", import.meta.url);
for (const name of readdirSync(assets).filter((n) => /\.(js|css|svg)$/.test(n))) {
  const data = readFileSync(new URL(name, assets));
  writeFileSync(new URL(`${name}.br`, assets), brotliCompressSync(data));
  writeFileSync(new URL(`${name}.gz`, assets), gzipSync(data, { level: 9 }));
}
