import { readFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import { dirname, resolve } from 'node:path';
import { contentHash } from '../../core/text/content-hash.js';
import { statNow } from './disk-files.js';

const named = /\b(?:from|require|import)\b\s*\(?\s*['"`](\.{1,2}\/[^'"`]+)['"`]/g;
const endings = ['', '.js', '.cjs', '.mjs', '.ts', '.json', '/index.js'];
const { cache } = createRequire(import.meta.url);

/** Files of the project's own that a configuration takes in by their paths, in depth, with hashes of what they hold; itself too. */
export function configParts(file: string): Map<string, string> {
  const parts = new Map<string, string>();
  const open = [file];
  for (let at = open.pop(); at !== undefined; at = open.pop()) {
    if (parts.has(at)) continue;
    const text = readFileSync(at, 'utf8');
    parts.set(at, contentHash(text));
    for (const [, path] of text.matchAll(named)) {
      const base = resolve(dirname(at), path!);
      const found = endings.map((ending) => base + ending).find((candidate) => statNow(candidate)?.isFile());
      if (found !== undefined) open.push(found);
    }
  }
  return parts;
}

/**
 * Lets a configuration and its parts run again when they are loaded next. Returns those for which nothing can be done: Node.js keeps
 * ES modules for good, and what they import.
 */
export function forgetLoaded(config: string, files: Iterable<string>): string[] {
  if (cache[config] === undefined) return [...files].filter((file) => file !== config);
  const kept: string[] = [];
  for (const file of files) {
    if (cache[file] === undefined) kept.push(file);
    else delete cache[file];
  }
  return kept;
}
