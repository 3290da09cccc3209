import { existsSync, readFileSync } from 'node:fs';
import type { LoadHook, ResolveHook } from 'node:module';
import { dirname, extname, join } from 'node:path';
import { fileURLToPath, pathToFileURL } from 'node:url';
import { transformSync } from 'oxc-transform';
import { parseJson } from '../core/text/json.js';
import { refuseTooDeep } from '../core/translate/nesting.js';

const isTypeScript = /\.(?:[mc]?ts|tsx|jsx)$/;
/** What a file of another name stands for, as TypeScript resolves it. */
const others: Record<string, string[]> = {
  '': ['.ts', '.tsx', '.mts', '/index.ts', '/index.tsx', '.js', '/index.js'],
  '.js': ['.ts', '.tsx'],
  '.mjs': ['.mts'],
  '.cjs': ['.cts'],
  '.jsx': ['.tsx'],
};

/** Finds TypeScript files by the names that TypeScript lets modules write. */
export const resolve: ResolveHook = async (specifier, context, next) => {
  const isPath = /^(?:\.{1,2}\/|\/|file:)/.test(specifier);
  const { parentURL } = context;
  if (isPath && parentURL?.startsWith('file:') && !parentURL.includes('/node_modules/')) {
    const path = fileURLToPath(new URL(specifier, parentURL));
    const extension = extname(path) in others ? extname(path) : '';
    const stem = extension === '' ? path : path.slice(0, -extension.length);
    const found =
      existsSync(path) && extname(path) !== ''
        ? undefined
        : others[extension]!.map((end) => stem + end).find((file) => existsSync(file));
    if (found !== undefined) return { url: pathToFileURL(found).href, shortCircuit: true };
  }
  return next(specifier, context);
};

/** Translates them, with a map that leads to the exact place. */
export const load: LoadHook = async (url, context, next) => {
  const path = url.startsWith('file:') ? url.replace(/[?#].*$/, '') : '';
  if (!isTypeScript.test(path) || path.includes('/node_modules/')) return next(url, context);
  const file = fileURLToPath(path);
  const source = readFileSync(file, 'utf8');
  refuseTooDeep(file, source);
  const { code, map, errors } = transformSync(file, source, {
    target: 'es2023',
    sourcemap: true,
    jsx: { runtime: 'automatic' },
    typescript: { onlyRemoveTypeImports: false },
  });
  if (errors.length > 0) throw new SyntaxError(`${file}: ${errors[0]!.message}\n${errors[0]!.codeframe ?? ''}`);
  const inline = map
    ? `\n//# sourceMappingURL=data:application/json;base64,${Buffer.from(JSON.stringify({ ...map, sources: [url], sourcesContent: [source] })).toString('base64')}`
    : '';
  return { format: isCommonJs(file, code) ? 'commonjs' : 'module', source: code + inline, shortCircuit: true };
};

/** By its extension, the nearest package.json, and else by what it says. */
function isCommonJs(file: string, code: string): boolean {
  if (/\.mts$/.test(file)) return false;
  if (/\.cts$/.test(file)) return true;
  for (let at = dirname(file); ; at = dirname(at)) {
    const found = join(at, 'package.json');
    if (existsSync(found)) {
      const { type } = parseJson(readFileSync(found, 'utf8')) as { type?: string };
      if (type !== undefined) return type !== 'module';
      break;
    }
    if (dirname(at) === at) break;
  }
  return !/^[^\S\n]*(?:import|export)\b/m.test(code);
}
