// Writes the table of docs/problems.md from the codes in the source.
import { readFileSync, writeFileSync } from 'node:fs';
import { fileURLToPath } from 'node:url';

const here = (path) => fileURLToPath(new URL(`../${path}`, import.meta.url));
const source = readFileSync(here('src/core/problem/codes.ts'), 'utf8');
const rows = [...source.matchAll(/^ {2}'([\w-]+)':\s+(['"])(.+)\2,$/gm)].map(([, code, , text]) => `| \`${code}\` | ${text} |`);
const file = here('docs/problems.md');
const head = readFileSync(file, 'utf8').split('| --- | --- |\n')[0];
writeFileSync(file, `${head}| --- | --- |\n${rows.join('\n')}\n`);
