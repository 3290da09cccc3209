// The map of the application piece: how long it takes and what it allocates, against joining the same text.
import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { quantile } from './figures.mjs';
import { makeApp } from './make-app.mjs';
import { serve } from './program.mjs';

const size = Number(process.env.SIZE ?? 10_000);
const folder = mkdtempSync(join(tmpdir(), 'vine-bench-'));
makeApp(folder, size);
const program = await serve(folder);
const piece = `${program.url}~vine/piece/page/index.html/app.js`;
const mapUrl = async () => new URL(/\n\/\/# sourceMappingURL=(.*)\s*$/.exec(await (await fetch(piece)).text())[1], piece);

const url = await mapUrl();
const times = [];
let text = '';
for (let n = 0; n < 5; n++) {
  const from = performance.now();
  text = await (await fetch(url)).text();
  times.push(performance.now() - from);
}
const { sections } = JSON.parse(text);
const parts = sections.map(({ map }) => JSON.stringify(map));
const joins = [];
for (let n = 0; n < 5; n++) {
  const from = performance.now();
  const joined = Buffer.from(parts.join(',\n'));
  joins.push(performance.now() - from);
  if (joined.length < text.length / 2) throw new Error('not the same text');
}
console.log(`${sections.length} modules, ${(text.length / 1e6).toFixed(1)} MB of map`);
console.log(
  `first ${times[0].toFixed(0)} ms, then ${quantile(times.slice(1), 0.5).toFixed(0)} ms; joining the text ${quantile(joins, 0.5).toFixed(0)} ms`,
);
await program.stop();
rmSync(folder, { recursive: true });
