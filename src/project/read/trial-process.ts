// Does with what comes on stdin what is to be done with it, for `trial.ts`: whether this process survives is the answer.
import { readFileSync } from 'node:fs';
import type { ScriptLanguage } from '../../core/translate/adapter.js';

const [, , work = 'read', lang = 'tsx'] = process.argv;
const name = `module.${lang}`;
const text = readFileSync(0, 'utf8');
if (work === 'read') {
  const { parseSync } = await import('oxc-parser');
  const { transformSync } = await import('oxc-transform');
  const options = { lang: lang as ScriptLanguage };
  parseSync(name, text, options).program;
  transformSync(name, text, { ...options, sourcemap: true });
} else {
  const { minifySync } = await import('oxc-minify');
  minifySync(name, text, { module: work.endsWith('module'), sourcemap: true });
}
