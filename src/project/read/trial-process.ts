// Parses and translates what comes on stdin, for `trial.ts`: whether this process survives is the answer.
import { readFileSync } from 'node:fs';
import { parseSync } from 'oxc-parser';
import { transformSync } from 'oxc-transform';

const name = (process.argv[2] ?? 'module.js').replace(/^.*\//, '');
const text = readFileSync(0, 'utf8');
parseSync(name, text).program;
transformSync(name, text, { sourcemap: true });
