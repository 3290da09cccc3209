import { existsSync, readdirSync, readFileSync, statSync } from 'node:fs';
import { builtinModules } from 'node:module';
import { basename, dirname, extname, join, relative, resolve } from 'node:path';
import { type Import, importsOf } from '../core/components/imports.js';
import { findComponents, nameOf, samplesOf } from '../core/components/props.js';
import { VineError } from '../core/problem/problem.js';
import type { Kind } from './kinds.js';
import { type Files, gitignore, mainScript, mounting, packageJson, pageHtml, tsconfig } from './plan.js';

/** A project grown around files. */
export interface Grown {
  kind: Kind;
  files: Files;
  /** Files to copy: path in the project -> absolute path. */
  copies: Record<string, string>;
  /** Packages that the sources import. */
  packages: string[];
  /** What could not be found, and what stands in for it. */
  standIns: { what: string; by: string }[];
}

export interface GrowOptions {
  name: string;
  /** Absolute path of the file or the folder; absent for a text without a file. */
  from?: string;
  /** The text of a file and its name, for one that isn't there. */
  given?: { name: string; text: string };
  exact: boolean;
  tool: string;
  versions?: Readonly<Record<string, string>>;
}

const sourceExtensions = ['.tsx', '.ts', '.jsx', '.js', '.mjs', '.vue', '.svelte', '.css', '.scss', '.json'];
const componentKinds = /\.(?:tsx|jsx|vue|svelte)$/;
const builtins = new Set(builtinModules);

/** The name that a text would have as a file, by what stands in it. */
export function nameForText(text: string): string {
  if (/^\s*(?:<!doctype|<html)/i.test(text)) return 'index.html';
  if (/<template\b|<script\b[^>]*\bsetup\b|defineProps|export default \{/.test(text) && /<\/(?:template|script)>/.test(text))
    return 'component.vue';
  if (
    /<script\b|\$(?:state|props|derived)\b|\{#(?:if|each|await|snippet)|on:\w+=/.test(text) &&
    /<\w/.test(text) &&
    !/\breturn\s*\(?\s*</.test(text)
  )
    return 'component.svelte';
  if (/<[A-Za-z>]/.test(text)) return 'component.tsx';
  return 'main.ts';
}

/** Reads what files need, and plans a project around them with a page that shows them. */
export function growProject(options: GrowOptions): Grown {
  const { from, given, name, exact, tool, versions } = options;
  const reader = new Reader();
  const isFolder = from !== undefined && statSync(from).isDirectory();
  const start = from === undefined ? { path: resolve('/given', given!.name), text: given!.text } : startOf(from, isFolder);
  reader.read(start.path, start.text);
  if (isFolder) for (const path of filesIn(from)) reader.read(path, undefined);
  const isPage = start.path.endsWith('.html');
  const kind = isPage ? kindOfAll(reader) : kindOf(start.path, start.text, reader);
  const hasTypes =
    [...reader.texts.keys()].some((path) => /\.tsx?$/.test(path)) ||
    [...reader.texts.values()].some((text) => /<script\b[^>]*lang=["']tsx?/.test(text));
  const base = commonFolder([...reader.texts.keys(), ...reader.files]);
  const placeOf = (path: string) => `${isPage ? '' : 'src/'}${relative(base, path)}`;
  const files: Files = {};
  const copies: Record<string, string> = {};
  for (const [path, text] of reader.texts) {
    if (from === undefined) files[placeOf(path)] = text;
    else copies[placeOf(path)] = path;
  }
  for (const path of reader.files) copies[placeOf(path)] = path;
  const standIns = reader.missing(placeOf, kind, hasTypes);
  for (const { path, text } of standIns) if (path !== undefined && text !== undefined) files[path] = text;
  const { extension, dependencies, devDependencies } = mounting(kind, hasTypes);
  if (!isPage) {
    const script = `src/main.${extension}`;
    const mainPath = placeOf(start.path) === script ? 'src/page.js' : script;
    if (componentKinds.test(start.path)) {
      const components = findComponents(start.text, start.path, (specifier) => reader.textBehind(start.path, specifier));
      const main = components.find((one) => one.name === 'default') ?? components[0];
      const isOwnKind = kind === 'vue' || kind === 'svelte';
      const path = `./${relative('src', placeOf(start.path))}`;
      const props = main?.props && samplesOf(main.props);
      files[mainPath] = mainScript(kind, hasTypes, {
        from: isOwnKind ? path : path.replace(/\.\w+$/, ''),
        name: !main || main.name === 'default' ? `default as ${main?.shown || nameOf(start.path)}` : main.name,
        ...(props && Object.keys(props).length > 0 ? { given: given_(props, kind, hasTypes) } : {}),
      });
    } else files[mainPath] = `import './${relative('src', placeOf(start.path)).replace(/\.[jt]s$/, '')}';\n`;
    files['index.html'] = pageHtml(nameOf(start.path), mainPath);
  }
  const env = reader.environment;
  for (const one of env) standIns.push({ what: one, by: "''" });
  const aliases = reader.aliases;
  const packages = [...reader.packages].filter((one) => !dependencies.includes(one)).sort();
  files['package.json'] = packageJson({
    name,
    exact,
    tool,
    dependencies: [...dependencies, ...packages.filter((one) => !isForDevelopment(one))],
    devDependencies: [
      ...(isPage && !hasTypes ? [] : devDependencies),
      ...packages.filter(isForDevelopment),
      ...(hasTypes && env.some((one) => one.startsWith('process.')) ? ['@types/node'] : []),
      ...(reader.usesSass ? ['sass'] : []),
      ...(reader.usesUtilities ? ['tailwindcss', '@tailwindcss/postcss'] : []),
    ],
    ...(versions ? { versions } : {}),
  });
  if (reader.usesUtilities) files['postcss.config.js'] = `export default { plugins: { '@tailwindcss/postcss': {} } };\n`;
  const usesNodeTypes = hasTypes && env.some((one) => one.startsWith('process.'));
  if (hasTypes || aliases.length > 0) {
    const paths = Object.fromEntries(aliases.map((alias) => [`${alias}*`, [`./src/*`]]));
    files[hasTypes ? 'tsconfig.json' : 'jsconfig.json'] = tsconfig(kind, {
      ...(aliases.length > 0 ? { paths } : {}),
      withNode: usesNodeTypes,
    });
  }
  if (env.length > 0) {
    const constants = env.map((one) => `    '${one}': '',`).join('\n');
    files['vine-spark.config.js'] = `export default {\n  constants: {\n${constants}\n  },\n};\n`;
  }
  files['.gitignore'] = gitignore;
  return { kind, files, copies, packages, standIns: standIns.map(({ what, by }) => ({ what, by })) };
}

/** Props as an expression. Where types are checked, samples are not what they are meant for. */
function given_(props: Record<string, unknown>, kind: Kind, typescript: boolean): string {
  const text = JSON.stringify(props, null, 2).replaceAll(/"(\d{4}-\d\d-\d\dT[\d:]+Z)"/g, "new Date('$1')");
  return typescript && (kind === 'react' || kind === 'preact')
    ? `(${text} as any)`
    : kind === 'react' || kind === 'preact'
      ? `(${text})`
      : text;
}

function isForDevelopment(name: string): boolean {
  return name.startsWith('@types/');
}

function startOf(from: string, isFolder: boolean): { path: string; text: string } {
  if (!isFolder) return { path: from, text: readFileSync(from, 'utf8') };
  const all = filesIn(from);
  const order = [
    /(?:^|\/)index\.html$/,
    /\.html$/,
    /(?:^|\/)(?:main|index)\.[jt]sx?$/,
    /(?:^|\/)(?:app|App)\.(?:[jt]sx?|vue|svelte)$/,
    /(?:^|\/)index\.\w+$/,
    componentKinds,
    /\.[jt]s$/,
  ];
  const found = order.map((pattern) => all.find((path) => pattern.test(path))).find((path) => path !== undefined) ?? all[0];
  if (found === undefined)
    throw new VineError({
      code: 'file-missing',
      message: `${from} holds no file.`,
      hint: 'Name a component, a page, or a folder with some.',
    });
  return { path: found, text: readFileSync(found, 'utf8') };
}

function filesIn(folder: string, depth = 0): string[] {
  return readdirSync(folder, { withFileTypes: true })
    .filter(({ name }) => !name.startsWith('.') && name !== 'node_modules' && name !== 'dist')
    .flatMap((entry) => {
      const path = join(folder, entry.name);
      return entry.isDirectory() ? (depth < 8 ? filesIn(path, depth + 1) : []) : [path];
    });
}

/** The folder in which all files lie. */
function commonFolder(paths: readonly string[]): string {
  let common = dirname(paths[0]!);
  for (const path of paths) while (!path.startsWith(`${common}/`)) common = dirname(common);
  return common;
}

function kindOf(path: string, text: string, reader: Reader): Kind {
  if (path.endsWith('.vue')) return 'vue';
  if (path.endsWith('.svelte')) return 'svelte';
  if (/@jsxImportSource\s+preact/.test(text) || [...reader.packages].some((name) => name === 'preact')) return 'preact';
  if (/\.[jt]sx$/.test(path)) return 'react';
  return kindOfAll(reader);
}

function kindOfAll(reader: Reader): Kind {
  for (const kind of ['react', 'preact', 'vue', 'svelte'] as const) if (reader.packages.has(kind)) return kind;
  if ([...reader.texts.keys()].some((path) => /\.[jt]sx$/.test(path))) return 'react';
  return 'page';
}

interface Missing {
  what: string;
  by: string;
  path?: string;
  text?: string;
}

/** Follows imports from file to file. */
class Reader {
  /** Sources by their absolute paths. */
  readonly texts = new Map<string, string>();
  /** Absolute paths of other files that are used. */
  readonly files = new Set<string>();
  readonly packages = new Set<string>();
  usesSass = false;
  usesUtilities = false;
  /** Missing modules: where they would lie, by importer and specifier. */
  readonly #missing: { importer: string; specifier: string; names: Set<string> }[] = [];
  readonly #environment = new Set<string>();
  readonly #aliases = new Set<string>();

  get environment(): string[] {
    return [...this.#environment].sort();
  }

  /** Beginnings of specifiers that stand for the project's sources, e.g. `@/`. */
  get aliases(): string[] {
    return [...this.#aliases];
  }

  read(path: string, given: string | undefined): void {
    if (this.texts.has(path) || this.files.has(path)) return;
    if (!isSource(path)) {
      this.files.add(path);
      return;
    }
    const text = given ?? readFileSync(path, 'utf8');
    this.texts.set(path, text);
    if (/\.s[ac]ss$/.test(path) || /<style\b[^>]*lang=["']s[ac]ss/.test(text)) this.usesSass = true;
    if (/@import\s+["']tailwindcss|@tailwind\b|@apply\b/.test(text)) this.usesUtilities = true;
    for (const [found] of text.matchAll(/\b(?:process\.env|import\.meta\.(?!url\b|resolve\b|base\b|live\b)\w+)\.[A-Z_]\w*/g))
      if (found !== 'process.env.NODE_ENV') this.#environment.add(found);
    for (const one of importsOf(path, text)) this.#follow(path, one);
  }

  /** The text behind a specifier, where it was found. */
  textBehind(importer: string, specifier: string): string | undefined {
    const path = found(resolve(dirname(importer), specifier));
    return path === undefined ? undefined : this.texts.get(path);
  }

  #follow(importer: string, { specifier, names, isType }: Import): void {
    if (/^(?:[a-z]+:)?\/\/|^data:|^node:|^#/.test(specifier) || builtins.has(specifier)) return;
    const alias = /^(?:@|~|\$lib|src)\//.exec(specifier)?.[0];
    if (alias !== undefined || /^\.{0,2}\//.test(specifier)) {
      const path = alias === undefined ? resolve(dirname(importer), specifier.replace(/[?#].*$/, '')) : undefined;
      const there = path === undefined ? this.#behindAlias(importer, specifier.slice(alias!.length)) : found(path);
      if (there !== undefined) return this.read(there, undefined);
      if (alias !== undefined) this.#aliases.add(alias);
      if (isType) return;
      const known = this.#missing.find((one) => one.specifier === specifier && one.importer === importer);
      if (known) for (const name of names) known.names.add(name);
      else this.#missing.push({ importer, specifier, names: new Set(names) });
      return;
    }
    const name = /^(?:@[^/]+\/)?[^/]+/.exec(specifier)![0];
    if (isType && !/^(?:react|preact|vue|svelte)$/.test(name)) return;
    this.packages.add(name);
  }

  /** What an alias of a whole project would lead to, where the file was taken out of one. */
  #behindAlias(importer: string, rest: string): string | undefined {
    for (let at = dirname(importer); dirname(at) !== at; at = dirname(at)) {
      const there = found(join(at, 'src', rest)) ?? (basename(at) === 'src' ? found(join(at, rest)) : undefined);
      if (there !== undefined) return there;
    }
    return undefined;
  }

  /** What stands in for what isn't there. */
  missing(placeOf: (path: string) => string, kind: Kind, typescript: boolean): Missing[] {
    return this.#missing.map(({ importer, specifier, names }) => {
      const alias = this.aliases.find((one) => specifier.startsWith(one));
      const target =
        alias === undefined ? placeOf(resolve(dirname(importer), specifier)) : `src/${specifier.slice(alias.length)}`;
      const clean = target.replace(/^(?:\.\.\/)+/, 'src/').replace(/[?#].*$/, '');
      const extension = extname(clean);
      const { path, text, by } = standIn(clean, extension, [...names], { kind, typescript });
      return { what: `${specifier} (in ${placeOf(importer)})`, by: `${path}, ${by}`, path, text };
    });
  }
}

function isSource(path: string): boolean {
  return sourceExtensions.includes(extname(path)) || path.endsWith('.html') || path.endsWith('.sass');
}

function found(path: string): string | undefined {
  const isFile = (one: string) => existsSync(one) && statSync(one).isFile();
  if (isFile(path)) return path;
  const bare = path.replace(/\.js$/, '');
  const candidates = [
    ...sourceExtensions.map((extension) => path + extension),
    ...['.ts', '.tsx'].map((extension) => bare + extension),
    ...sourceExtensions.map((extension) => join(path, `index${extension}`)),
  ];
  const partial = join(dirname(path), `_${basename(path)}`);
  return [...candidates, partial, `${partial}.scss`].find(isFile);
}

/** The smallest picture that every raster format's readers take. */
const pixel = 'iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg==';
export const pixelBytes = Buffer.from(pixel, 'base64');

function standIn(
  path: string,
  extension: string,
  names: readonly string[],
  { kind, typescript }: { kind: Kind; typescript: boolean },
) {
  if (extension === '.svg')
    return {
      path,
      text: '<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 24 24" width="24" height="24"><rect width="24" height="24" rx="4" fill="#d9482b"/></svg>\n',
      by: 'a red square',
    };
  if (/^\.(?:png|jpe?g|gif|webp|avif|ico|bmp)$/.test(extension))
    return { path, text: `base64:${pixel}`, by: 'a picture of one pixel' };
  if (/^\.(?:css|scss|sass)$/.test(extension)) return { path, text: '', by: 'an empty sheet' };
  if (extension === '.json') return { path, text: '{}\n', by: 'an empty object' };
  if (extension === '.vue')
    return { path, text: `<template><span>${nameOf(path)} <slot /></span></template>\n`, by: 'a component that shows its name' };
  if (extension === '.svelte')
    return {
      path,
      text: `<script>\n  let { children } = $props();\n</script>\n\n<span>${nameOf(path)} {@render children?.()}</span>\n`,
      by: 'a component that shows its name',
    };
  const isJsx = kind === 'react' || kind === 'preact';
  const file = sourceExtensions.includes(extension) ? path : `${path}.${typescript ? 'ts' : 'js'}${isJsx ? 'x' : ''}`;
  const any = typescript ? ': any' : '';
  const rows = names
    .filter((name) => name !== '*')
    .map((name) => {
      const shown = name === 'default' ? nameOf(path) : name;
      const head = name === 'default' ? 'export default function ' : 'export function ';
      if (isJsx && /^[A-Z]/.test(shown))
        return `${head}${shown}({ children }${any}) {\n  return <span data-stand-in="${shown}">{children ?? '${shown}'}</span>;\n}`;
      return `${head}${shown}(...given${typescript ? ': any[]' : ''})${any} {\n  return given.filter((one) => typeof one === 'string').join(' ');\n}`;
    });
  return {
    path: file,
    text: `// Stands in for what was not there.\n${rows.join('\n\n')}\n`,
    by: names.length > 0 ? `which exports ${names.join(', ')}` : 'an empty module',
  };
}
