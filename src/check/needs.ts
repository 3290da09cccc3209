import { readdirSync, readFileSync } from 'node:fs';
import { builtinModules } from 'node:module';
import { dirname, extname, join, relative } from 'node:path';
import semver from 'semver';
import { importsOf } from '../core/components/imports.js';
import { parseJson } from '../core/text/json.js';
import type { ProjectGraph } from '../project/project-graph.js';

/** A package that sources import and package.json doesn't list. */
export interface NeededPackage {
  name: string;
  /** Files that import it, relative to the project. */
  files: string[];
  /** Only tests and configurations import it. */
  isForDevelopment: boolean;
  /** A range that fits, where something says one. */
  fits?: string;
  /** Installed all the same, in this version, since these packages bring it. */
  byLuck?: { version: string; bringers: string[] };
}

/** What a project's package.json lacks and holds for nothing. */
export interface Needs {
  missing: NeededPackage[];
  /** Listed packages that nothing uses. */
  unused: string[];
  /** Files that can't be read as what they are. */
  unread: string[];
}

interface Description {
  name?: string;
  version?: string;
  bin?: string | Record<string, string>;
  scripts?: Record<string, string>;
  dependencies?: Record<string, string>;
  devDependencies?: Record<string, string>;
  optionalDependencies?: Record<string, string>;
  peerDependencies?: Record<string, string>;
}

const builtins = new Set([...builtinModules, ...builtinModules.map((name) => `node:${name}`)]);
const sourceKinds = /\.(?:[mc]?[jt]sx?|vue|svelte|css|scss|sass|html?)$/;
const forDevelopment =
  /(?:^|\/)(?:tests?|__tests__|specs?|e2e|scripts|\.[\w-]+)\/|\.(?:test|spec|config|stories)\.\w+$|^\.?\w+rc\.\w+$/;
/** Packages that a kind of file makes use of, whatever it imports. */
const byKind: [RegExp, string[]][] = [
  [/\.s[ac]ss$/, ['sass', 'sass-embedded']],
  [/\.vue$/, ['vue']],
  [/\.svelte$/, ['svelte']],
  [/\.[jt]sx$/, ['react', 'preact']],
  [/\.[mc]?tsx?$/, ['typescript']],
];

/** Compares what the sources of a project import with what its package.json lists. `except`: absolute paths of folders with no sources. */
export function findNeeds(project: ProjectGraph, except: readonly string[] = []): Needs {
  const { root } = project.options;
  const own = describe(join(root, 'package.json')) ?? {};
  const listed = new Set(
    Object.keys({ ...own.dependencies, ...own.devDependencies, ...own.optionalDependencies, ...own.peerDependencies }),
  );
  const ignored = new Set([...project.options.ignored, ...project.options.verbatim, ...except]);
  const used = new Map<string, { files: Set<string>; isType: boolean }>();
  const files = sourcesIn(root, ignored);
  const unread: string[] = [];
  const texts: string[] = [];
  for (const file of files) {
    const path = relative(root, file);
    for (const [pattern, names] of byKind) if (pattern.test(file)) for (const name of names) note(used, name, '', true);
    const text = readFileSync(file, 'utf8');
    if (forDevelopment.test(path)) texts.push(text);
    try {
      for (const { specifier, isType } of importsOf(file, text)) {
        const name = packageIn(specifier);
        if (name !== undefined && name !== own.name && !isOwn(project, specifier, file)) note(used, name, path, isType);
      }
    } catch {
      unread.push(path);
    }
  }
  const missing = [...used].filter(([name, { files: by }]) => by.size > 0 && !isListed(name, listed, used.get(name)!.isType));
  return {
    missing: missing
      .map(([name, { files: by }]) => needed(root, name, { files: [...by].sort(), listed }))
      .sort((a, b) => (a.name < b.name ? -1 : 1)),
    unused: unused(root, {
      own,
      used,
      texts: [...texts, ...configurations(root)],
      hasTypes: files.some((file) => /\.tsx?$/.test(file)),
    }),
    unread,
  };
}

function note(used: Map<string, { files: Set<string>; isType: boolean }>, name: string, file: string, isType: boolean): void {
  const known = used.get(name) ?? { files: new Set<string>(), isType: true };
  if (file !== '') known.files.add(file);
  if (!isType) known.isType = false;
  used.set(name, known);
}

/** The package that a specifier names; `undefined` for paths, URLs and parts of Node.js. */
function packageIn(specifier: string): string | undefined {
  if (/^[./#]|^[a-z][a-z0-9+.-]*:|^~|^\$/i.test(specifier) || builtins.has(specifier)) return undefined;
  return /^(?:@[^/]+\/)?[^/]+/.exec(specifier)?.[0];
}

/** Whether a specifier leads to files of the project itself, by an alias or a folder. */
function isOwn(project: ProjectGraph, specifier: string, file: string): boolean {
  const resolution = project.resolver.resolve(specifier, file, /\.(?:css|s[ac]ss)$/.test(file) ? 'style' : 'import');
  return (
    'found' in resolution &&
    !resolution.found.includes('/node_modules/') &&
    resolution.found.startsWith(`${project.options.root}/`)
  );
}

function isListed(name: string, listed: ReadonlySet<string>, isType: boolean): boolean {
  return listed.has(name) || (isType && listed.has(typesOf(name)));
}

/** The package with the types of one that has none. */
function typesOf(name: string): string {
  return `@types/${name.replace(/^@([^/]+)\//, '$1__')}`;
}

function needed(root: string, name: string, { files, listed }: { files: string[]; listed: ReadonlySet<string> }): NeededPackage {
  const isForDevelopment = files.every((file) => forDevelopment.test(file));
  const wanted = [...listed].flatMap((other) => installed(root, other)?.peerDependencies?.[name] ?? []);
  const there = installed(root, name);
  const bringers = there ? [...listed].filter((other) => brings(root, other, name)).sort() : [];
  const ranges = wanted.filter((range) => semver.validRange(range));
  const current = there?.version;
  const fits =
    current !== undefined && ranges.every((range) => semver.satisfies(current, range))
      ? `^${current}`
      : ranges.length > 0
        ? ranges.join(' ')
        : undefined;
  return {
    name,
    files,
    isForDevelopment,
    ...(fits === undefined ? {} : { fits }),
    ...(current === undefined ? {} : { byLuck: { version: current, bringers } }),
  };
}

/** Whether a package brings another one, itself or by what it depends on. */
function brings(root: string, from: string, name: string): boolean {
  const seen = new Set([from]);
  for (const at of seen) {
    const { dependencies = {}, peerDependencies = {} } = installed(root, at) ?? {};
    for (const next of Object.keys({ ...dependencies, ...peerDependencies })) {
      if (next === name) return true;
      if (seen.size < 2000) seen.add(next);
    }
  }
  return false;
}

function unused(
  root: string,
  {
    own,
    used,
    texts,
    hasTypes,
  }: { own: Description; used: ReadonlyMap<string, unknown>; texts: readonly string[]; hasTypes: boolean },
): string[] {
  const listed = Object.keys({ ...own.dependencies, ...own.devDependencies });
  const scripts = Object.values(own.scripts ?? {}).join('\n');
  const named = texts.join('\n');
  const peers = new Set(listed.flatMap((name) => Object.keys(installed(root, name)?.peerDependencies ?? {})));
  return listed
    .filter((name) => {
      if (name === 'vine-spark' || used.has(name) || peers.has(name)) return false;
      const about = /^@types\/(.+)$/.exec(name)?.[1];
      if (about !== undefined) {
        const subject = about.replace('__', '/').replace(/^(?=[^/]+\/)/, '@');
        return !(
          hasTypes &&
          (about === 'node' || used.has(about) || used.has(subject) || listed.includes(about) || listed.includes(subject))
        );
      }
      if (name === 'typescript' && hasTypes) return false;
      const isNamed = new RegExp(`['"\`@]${escaped(name)}(?:['"\`/]|$)`, 'm').test(named);
      const bin = installed(root, name)?.bin;
      const bins = typeof bin === 'string' ? [name.split('/').at(-1)!] : Object.keys(bin ?? {});
      const isRun = [name, ...bins].some((word) =>
        new RegExp(`(?:^|[\\s'"/&|;=])${escaped(word)}(?:[\\s'"@&|;]|$)`, 'm').test(scripts),
      );
      return !isNamed && !isRun;
    })
    .sort();
}

function escaped(text: string): string {
  return text.replace(/[$()*+.?[\\\]^{|}]/g, '\\$&');
}

/** Texts of files at the top that may name packages. */
function configurations(root: string): string[] {
  return readdirSync(root, { withFileTypes: true })
    .filter((entry) => entry.isFile() && /\.config\.\w+$|^\.[\w-]+rc(?:\.\w+)?$|\.json$|\.ya?ml$/.test(entry.name))
    .filter(({ name }) => !/^package(?:-lock)?\.json$|lock/.test(name))
    .map(({ name }) => readFileSync(join(root, name), 'utf8'));
}

/** Absolute paths of the project's own sources. A folder with a package.json is another project. */
function sourcesIn(folder: string, ignored: ReadonlySet<string>, depth = 0): string[] {
  return readdirSync(folder, { withFileTypes: true }).flatMap((entry) => {
    const path = join(folder, entry.name);
    if (entry.isDirectory()) {
      if (entry.name.startsWith('.') || entry.name === 'node_modules' || ignored.has(path) || depth > 20) return [];
      if (describe(join(path, 'package.json'))) return [];
      return sourcesIn(path, ignored, depth + 1);
    }
    return entry.isFile() && sourceKinds.test(entry.name) && !entry.name.endsWith('.d.ts') && extname(entry.name) !== ''
      ? [path]
      : [];
  });
}

function installed(root: string, name: string): Description | undefined {
  for (let at = root; ; at = dirname(at)) {
    const found = describe(join(at, 'node_modules', name, 'package.json'));
    if (found || dirname(at) === at) return found;
  }
}

function describe(file: string): Description | undefined {
  try {
    return parseJson(readFileSync(file, 'utf8')) as Description;
  } catch {
    return undefined; // it isn't there, or is none
  }
}
