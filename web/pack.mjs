// Compresses the built files beforehand, so that the service only has to send them, and puts the placeholder back that
// keeps the directory in the repository.
import { readdirSync, readFileSync, statSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { gzipSync } from "node:zlib";

const files = (dir) =>
  readdirSync(dir).flatMap((n) =>
    statSync(join(dir, n)).isDirectory() ? files(join(dir, n)) : [join(dir, n)],
  );
let total = 0;
for (const f of files("dist").filter((f) => /\.(html|js|css|svg)$/.test(f))) {
  const packed = gzipSync(readFileSync(f), { level: 9 });
  writeFileSync(f + ".gz", packed);
  total += packed.length;
}
writeFileSync("dist/.keep", "");
console.log(`console: ${(total / 1000).toFixed(0)} kB compressed`);
