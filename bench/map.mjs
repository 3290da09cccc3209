// The map of the application piece against a server that joins the same text and sends it.
import { createServer, get } from 'node:http';
import { median } from './figures.mjs';

function textOf(url) {
  return new Promise((resolve, reject) => {
    get(url, (response) => {
      const chunks = [];
      response.on('data', (chunk) => chunks.push(chunk));
      response.on('end', () => resolve(Buffer.concat(chunks)));
    }).on('error', reject);
  });
}

async function timed(work) {
  const from = performance.now();
  const result = await work();
  return [performance.now() - from, result];
}

/** Medians in milliseconds: the first map, later ones, and joining and sending the same text; and its size in bytes. */
export async function measureMap({ program, page, rounds }) {
  const piece = `${program.url}~spark/piece/page/${page}/app.js`;
  const script = String(await textOf(piece));
  const url = new URL(/\n\/\/# sourceMappingURL=(.*)\s*$/.exec(script)[1], piece);
  const [first, map] = await timed(() => textOf(url));
  const parts = JSON.parse(String(map)).sections.map(({ map: section }) => JSON.stringify(section));
  const server = createServer((_, response) => response.end(Buffer.from(parts.join(',\n'))));
  await new Promise((resolve) => server.listen(0, '127.0.0.1', resolve));
  const [later, joined] = [[], []];
  for (let round = 0; round < rounds; round++) {
    later.push((await timed(() => textOf(url)))[0]);
    const [ms, text] = await timed(() => textOf(`http://127.0.0.1:${server.address().port}/`));
    if (text.length < map.length * 0.8) throw new Error('not the same text');
    joined.push(ms);
  }
  server.close();
  return { first, later: median(later), joined: median(joined), bytes: map.length };
}
