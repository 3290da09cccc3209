// Does with what comes on stdin what is to be done with it, for `trial.ts`: whether this process survives is the answer.
import { readFileSync } from 'node:fs';

const [, , work, path = 'module.js'] = process.argv;
const name = path.replace(/^.*\//, '');
const text = readFileSync(0, 'utf8');
if (work === 'smaller') {
  const { minifySync } = await import('oxc-minify');
  // What has a top-level `await` is a module.
  for (const module of [false, true]) minifySync(name, text, { module, sourcemap: true });
} else {
  const { parseSync } = await import('oxc-parser');
  const { transformSync } = await import('oxc-transform');
  parseSync(name, text).program;
  transformSync(name, text, { sourcemap: true });
}
