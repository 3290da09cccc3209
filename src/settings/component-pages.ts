import { existsSync, readdirSync, readFileSync, realpathSync, statSync } from 'node:fs';
import { basename, dirname, join, relative, resolve, sep } from 'node:path';
import { type Import, importsOf } from '../core/components/imports.js';
import { findComponents } from '../core/components/props.js';
import { listHtml, type StageKind, stageHtml } from '../core/components/stage.js';
import { VineError } from '../core/problem/problem.js';
import { parseJson } from '../core/text/json.js';
import { type FoundPages, freeId, type Route } from './routes.js';

const kinds = /\.(?:tsx|jsx|vue|svelte)$/;
const noComponent = /\.(?:samples|test|spec|stories)\.\w+$/;

/** Pages of components: of one alone, or of all in a folder, with a list. */
export function componentRoutes(root: string, start: string): FoundPages {
  const real = realpathSync(start);
  const html = statSync(real).isFile() ? { '/': componentPage(root, real) } : componentPages(root, real);
  const generated: Record<string, string> = {};
  const routes: Route[] = [];
  for (const [pattern, text] of Object.entries(html)) {
    // No real page is meant.
    const taken = new Set(Object.keys(generated));
    let id = freeId(pattern === '/' ? '/component' : pattern, taken);
    while (existsSync(join(root, id))) id = freeId(`/${id.replace(/\.html$/, '')}-page`, taken);
    generated[id] = text;
    routes.push({ pattern, page: id });
  }
  return { routes, generated };
}

/** The page of one component. Absolute paths. */
export function componentPage(root: string, file: string): string {
  const path = relative(root, file).split(sep).join('/');
  const typesOf = (specifier: string) => textOf(resolve(dirname(file), specifier));
  const components = findComponents(readFileSync(file, 'utf8'), file, typesOf);
  if (components.length === 0)
    throw new VineError({
      code: 'page-missing',
      message: `${path} exports no component.`,
      hint: 'Export a function or a class whose name begins with a capital letter, or as default.',
    });
  const stem = file.replace(/\.\w+$/, '');
  const samples = ['tsx', 'jsx', 'ts', 'js'].map((extension) => `${stem}.samples.${extension}`).find((one) => existsSync(one));
  return stageHtml({
    kind: kindOf(root, file),
    file: path,
    components,
    samples: samples && relative(root, samples).split(sep).join('/'),
    sheets: sheetsOf(root),
  });
}

/** The pages of all components in a folder, and the list that leads to them, by URL patterns. Absolute paths. */
export function componentPages(root: string, folder: string): Record<string, string> {
  const pages: Record<string, string> = {};
  const items: { path: string; name: string; file: string }[] = [];
  for (const file of filesIn(folder)) {
    const path = `/components/${relative(folder, file)
      .split(sep)
      .join('/')
      .replace(/\.\w+$/, '')}`;
    let names: string[];
    try {
      names = findComponents(readFileSync(file, 'utf8'), file).map(({ shown }) => shown);
    } catch {
      continue; // what is wrong with it is told where it's used
    }
    if (names.length === 0) continue;
    pages[path] = componentPage(root, file);
    items.push({ path: path.slice(1), name: names.join(', '), file: relative(root, file).split(sep).join('/') });
  }
  if (items.length === 0)
    throw new VineError({
      code: 'page-missing',
      message: `There is no component in ${relative(root, folder) || 'this folder'}.`,
      hint: 'Components are exported from .tsx, .jsx, .vue and .svelte files.',
    });
  return {
    '/': listHtml(
      `${items.length} component${items.length === 1 ? '' : 's'} in ${relative(root, folder) || basename(root)}`,
      items,
    ),
    ...pages,
  };
}

function kindOf(root: string, file: string): StageKind {
  if (file.endsWith('.vue')) return 'vue';
  if (file.endsWith('.svelte')) return 'svelte';
  const { dependencies = {}, devDependencies = {} } = described(root);
  const all = { ...dependencies, ...devDependencies };
  if ('react' in all) return 'react';
  return 'preact' in all ? 'preact' : 'vue' in all ? 'vue' : 'react';
}

function described(root: string): { dependencies?: object; devDependencies?: object } {
  try {
    return parseJson(readFileSync(join(root, 'package.json'), 'utf8')) as { dependencies?: object; devDependencies?: object };
  } catch {
    return {};
  }
}

/** Sheets that the project's own pages have for everything: those that they link, and that their first scripts import. */
function sheetsOf(root: string): string[] {
  const sheets: string[] = [];
  const add = (path: string) => {
    const id = relative(root, path).split(sep).join('/');
    if (existsSync(path) && statSync(path).isFile() && !id.startsWith('..') && !sheets.includes(id)) sheets.push(id);
  };
  for (const name of readdirSync(root).filter((one) => one.endsWith('.html'))) {
    for (const { specifier } of importedBy(join(root, name))) {
      const path = resolve(root, specifier.replace(/[?#].*$/, ''));
      if (/\.(?:css|s[ac]ss)$/.test(path)) add(path);
      else if (/\.[mc]?[jt]sx?$/.test(path))
        for (const inner of importedBy(path))
          if (/^\.[^?]*\.(?:css|s[ac]ss)$/.test(inner.specifier)) add(resolve(dirname(path), inner.specifier));
    }
  }
  return sheets;
}

/** What a page or a script imports; nothing where it can't be read, which is told elsewhere. */
function importedBy(path: string): Import[] {
  try {
    return importsOf(path, textOf(path) ?? '');
  } catch {
    return [];
  }
}

function textOf(path: string): string | undefined {
  const candidates = [path, ...['.ts', '.tsx', '.d.ts', '/index.ts'].map((extension) => path.replace(/\.js$/, '') + extension)];
  const found = candidates.find((one) => existsSync(one) && statSync(one).isFile());
  return found === undefined ? undefined : readFileSync(found, 'utf8');
}

function filesIn(folder: string, depth = 0): string[] {
  return readdirSync(realpathSync(folder), { withFileTypes: true })
    .sort((a, b) => (a.name < b.name ? -1 : 1))
    .flatMap((entry) => {
      const path = join(folder, entry.name);
      if (entry.isDirectory())
        return entry.name.startsWith('.') || entry.name === 'node_modules' || entry.name === 'dist' || depth > 12
          ? []
          : filesIn(path, depth + 1);
      return kinds.test(entry.name) && !noComponent.test(entry.name) ? [path] : [];
    });
}
