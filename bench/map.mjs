// The map of the application piece: how long it takes and what it needs, against joining the same text.
import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { quantile } from './figures.mjs';
import { serve } from './program.mjs';

const size = Number(process.env.SIZE ?? 10_000);
process.env.ROUTES = 'one';
const { makeApp } = await import('./make-app.mjs');
const folder = mkdtempSync(join(tmpdir(), 'vine-bench-'));
makeApp(folder, size);
const program = await serve(folder);
const piece = `${program.url}~vine/piece/page/index.html/app.js`;
const mapUrl = async () => new URL(/\n\/\/# sourceMappingURL=(.*)\s*$/.exec(await (await fetch(piece)).text())[1], piece);

/** Resident memory of the server in megabytes. */
const memory = () => Number(/VmRSS:\s+(\d+)/.exec(readFileSync(`/proc/${program.pid}/status`, 'utf8'))[1]) / 1024;

const url = await mapUrl();
const before = memory();
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
console.log(`memory ${before.toFixed(0)} MB before, ${memory().toFixed(0)} MB after 5 maps`);
await program.stop();
rmSync(folder, { recursive: true });
