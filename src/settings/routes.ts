import { existsSync, readdirSync, realpathSync, statSync } from 'node:fs';
import { basename, dirname, join, relative, resolve, sep } from 'node:path';
import { VineError } from '../core/problem/problem.js';
import type { Settings } from './schema.js';

/** The project's folder: where the nearest package.json or settings file is, but never above where the command was run unless the page is. */
export function projectRoot(start: string, folder: string, isNamed: boolean): string {
  if (isNamed && !existsSync(start)) {
    const near = relative(folder, start);
    throw new VineError({
      code: 'page-missing',
      message: `There is no page ${near}.`,
      file: near,
      hint: 'Give the path of an HTML file, or of a folder that holds some.',
    });
  }
  const base = statSync(start).isDirectory() ? start : dirname(start);
  for (let at = base; ; at = dirname(at)) {
    if (existsSync(join(at, 'package.json')) || readdirSync(at).some((name) => name.startsWith('vine-spark.config.')))
      return realpathSync(at);
    if (at === folder || dirname(at) === at) break;
  }
  return realpathSync(base === start ? base : base.startsWith(folder + sep) ? folder : base);
}

export function routesOf(
  root: string,
  start: string,
  page: string | undefined,
  pages: Settings['pages'],
): { pattern: string; page: string }[] {
  const real = realpathSync(start);
  const isFile = statSync(real).isFile();
  if (page !== undefined && isFile) {
    const id = idOf(root, real);
    // One page: every path that isn't a file's is the application's own, so that deep links work.
    return [
      ...(pages ? routesFrom(root, pages) : []),
      { pattern: '/', page: id },
      { pattern: `/${basename(id)}`, page: id },
      { pattern: '/**', page: id },
    ];
  }
  if (pages) return routesFrom(root, pages);
  const files = readdirSync(real)
    .filter((name) => name.endsWith('.html'))
    .sort();
  if (files.length === 0) {
    throw new VineError({
      code: 'page-missing',
      message: `There is no HTML page in ${page ?? 'this folder'}.`,
      hint: 'Name one: vine-spark serve path/to/index.html',
    });
  }
  const single = files.length === 1 ? [{ pattern: '/**', page: idOf(root, join(real, files[0]!)) }] : [];
  return [...files.flatMap((name) => fileRoutes(name, idOf(root, join(real, name)), files.length === 1)), ...single];
}

export function fileRoutes(name: string, page: string, isOnly: boolean): { pattern: string; page: string }[] {
  const stem = name.slice(0, -'.html'.length);
  const isIndex = stem === 'index' || isOnly;
  return [
    ...(isIndex ? [{ pattern: '/', page }] : []),
    ...(stem === 'index' ? [] : [{ pattern: `/${stem}`, page }]),
    { pattern: `/${name}`, page },
  ];
}

export function routesFrom(root: string, pages: NonNullable<Settings['pages']>): { pattern: string; page: string }[] {
  return Object.entries(pages).map(([pattern, file]) => {
    const path = resolve(root, file);
    if (!existsSync(path))
      throw new VineError({
        code: 'page-missing',
        message: `The setting 'pages' names ${file}, which does not exist.`,
        file,
        hint: 'Paths in the settings are relative to the settings file.',
      });
    return { pattern, page: idOf(root, path) };
  });
}

export function idOf(root: string, path: string): string {
  return relative(root, path).split(sep).join('/');
}
