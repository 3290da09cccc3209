// Reads the scripts of a folder, translates them for production and makes them smaller with the minifier of builds, in as many threads
// and with maps, and does nothing else: what a build can't do without.
import { readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { transform } from 'oxc-transform';
import { openMap } from '../dist/build/mapped.js';
import { smallerScript } from '../dist/build/minify.js';
import { MapOrigin } from '../dist/core/maps/origin.js';

const [folder, ...sources] = process.argv.slice(2);
const files = sources.flatMap((source) =>
  source.endsWith('.js')
    ? [join(folder, source)]
    : readdirSync(join(folder, source), { recursive: true })
        .filter((path) => /\.[jt]sx?$/.test(path) && !path.includes('node_modules'))
        .map((path) => join(folder, source, path)),
);
const made = await Promise.all(
  files.map(async (file) => {
    const text = readFileSync(file, 'utf8');
    if (file.includes('node_modules')) return smallerScript(text, undefined, { keepsNames: true, edition: 2022 });
    const { code, map } = await transform(file, text, {
      lang: file.endsWith('x') ? 'tsx' : 'ts',
      sourcemap: true,
      jsx: { runtime: 'automatic' },
    });
    // The minifier takes scripts: what modules import and export stands in no script.
    const plain = code
      .replace(/^import\b.*$/gm, (line) => ' '.repeat(line.length))
      .replace(/^export\s+(?:default\s+)?/gm, (word) => ' '.repeat(word.length));
    return smallerScript(plain, new MapOrigin(openMap(JSON.stringify(map))), { keepsNames: true, edition: 2022 });
  }),
);
if (made.some(({ text }) => text === '')) throw new Error('nothing was made smaller');
