// One save that changes many files, against translating them.
import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { transform } from 'oxc-transform';
import { median } from './figures.mjs';
import { updateSocket } from './program.mjs';

/** Medians in milliseconds: writing `count` files, from the last write to the update message, and only translating them. */
export async function measureMany({ folder, app, program, count, rounds }) {
  const socket = await updateSocket(program.url);
  const times = { write: [], update: [], translate: [] };
  for (let round = 0; round < rounds; round++) {
    await new Promise((resolve) => setTimeout(resolve, 600));
    const files = Array.from({ length: count }, (_, n) => [join(folder, app.path(n + 1)), app.component(n + 1, `many${round}`)]);
    const fromTranslating = performance.now();
    await Promise.all(
      files.map(([file]) =>
        transform(file, readFileSync(file, 'utf8'), { lang: 'tsx', sourcemap: true, jsx: { development: true, refresh: {} } }),
      ),
    );
    times.translate.push(performance.now() - fromTranslating);
    const all = socket.changes(count);
    const from = performance.now();
    for (const [file, text] of files) writeFileSync(file, text);
    const written = performance.now();
    times.write.push(written - from);
    await all;
    times.update.push(performance.now() - written);
  }
  socket.close();
  return Object.fromEntries(Object.entries(times).map(([name, list]) => [name, median(list)]));
}
