import assert from "node:assert/strict";
import { readdirSync, readFileSync } from "node:fs";
import test from "node:test";
import { gzipSync } from "node:zlib";

import { wrong } from "./vectors.js";

const folder = new URL("../../vectors/", import.meta.url);

let count = 0;
for (const file of readdirSync(folder).filter((name) => name.endsWith(".json"))) {
  for (const vector of JSON.parse(readFileSync(new URL(file, folder)))) {
    count += 1;
    test(`${file}: ${vector.name}`, () => assert.equal(wrong(vector), undefined));
  }
}

test("there are vectors, and the module is small", () => {
  const text = readFileSync(new URL("../gossip.js", import.meta.url), "utf8");
  // Without comments and indentation: a minifier makes it smaller yet.
  const bare = text.replace(/\/\*\*[\s\S]*?\*\//g, "").replace(/^\s+(\/\/.*$)?/gm, "");
  const bytes = gzipSync(bare).length;
  console.log(`${count} vectors; gossip.js: ${text.length} bytes, compressed ${bytes} without comments`);
  assert.ok(count >= 60);
  assert.ok(bytes < 12 * 1024, `${bytes} bytes`);
});
