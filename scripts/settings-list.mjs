// Writes the table of docs/settings.md from what the source says of each setting. Needs a build.
import { readFileSync, writeFileSync } from 'node:fs';
import { fileURLToPath } from 'node:url';
import { settingDocs } from '../dist/settings/setting-docs.js';

const file = fileURLToPath(new URL('../docs/settings.md', import.meta.url));
const head = '| setting | by default | what it means |\n| --- | --- | --- |\n';
const rows = Object.entries(settingDocs).map(
  ([name, { standard, what }]) => `| \`${name}\` | ${standard}${standard ? ' ' : ''}| ${what} |`,
);
const text = readFileSync(file, 'utf8');
const from = text.indexOf(head) + head.length;
const end = text.indexOf('\n\n', from);
writeFileSync(file, `${text.slice(0, from)}${rows.join('\n')}${text.slice(end)}`);
