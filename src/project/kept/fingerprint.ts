import { statSync } from 'node:fs';
import { createRequire } from 'node:module';
import { fileURLToPath } from 'node:url';

let known: string | undefined;

/** Changes with our own version and build, and with the translator's. */
export function ownFingerprint(): string {
  known ??= readFingerprint();
  return known;
}

function readFingerprint(): string {
  const require = createRequire(import.meta.url);
  const { version } = require('../../../package.json') as { version: string };
  const translator = require('oxc-transform/package.json') as { version: string };
  const here = fileURLToPath(import.meta.url);
  return `${version} ${translator.version} ${statSync(here).mtimeMs}`;
}
