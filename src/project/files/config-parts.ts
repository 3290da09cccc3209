import { readFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import { dirname, resolve } from 'node:path';
import { statNow } from './disk-files.js';

const named = /\b(?:from|require|import)\b\s*\(?\s*['"`](\.{1,2}\/[^'"`]+)['"`]/g;
const endings = ['', '.js', '.cjs', '.mjs', '.ts', '.json', '/index.js'];
const { cache } = createRequire(import.meta.url);

/** Files of the project's own that a configuration takes in by their paths, in depth; itself too. */
export function configParts(file: string): Set<string> {
  const parts = new Set<string>();
  const open = [file];
  for (let at = open.pop(); at !== undefined; at = open.pop()) {
    if (parts.has(at)) continue;
    const text = readFileSync(at, 'utf8');
    parts.add(at);
    for (const [, path] of text.matchAll(named)) {
      const base = resolve(dirname(at), path!);
      const found = endings.map((ending) => base + ending).find((candidate) => statNow(candidate)?.isFile());
      if (found !== undefined) open.push(found);
    }
  }
  return parts;
}

/** Lets a configuration and its parts run again when they are loaded next, as far as they are CommonJS. */
export function forgetLoaded(config: string, files: Iterable<string>): void {
  if (cache[config] === undefined) return;
  for (const file of files) delete cache[file];
}
