// Reads the scripts of a folder and runs the translator on all of them, as a start does, and nothing else.
import { readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { transform } from 'oxc-transform';

const [folder, ...sources] = process.argv.slice(2);
const files = sources.flatMap((source) =>
  readdirSync(join(folder, source), { recursive: true })
    .filter((path) => /\.[jt]sx?$/.test(path) && !path.includes('node_modules'))
    .map((path) => join(folder, source, path)),
);
const results = await Promise.all(
  files.map((file) =>
    transform(file, readFileSync(file, 'utf8'), {
      lang: file.endsWith('x') ? 'tsx' : 'ts',
      sourcemap: true,
      jsx: { runtime: 'automatic', development: true, refresh: {} },
    }),
  ),
);
let length = 0;
for (const { code, map } of results) length += code.length + map.mappings.length;
if (length === 0) throw new Error('nothing was translated');
