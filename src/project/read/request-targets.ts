import { createRequire } from 'node:module';
import { dirname, isAbsolute, join } from 'node:path';
import { parse } from 'es-module-lexer';
import { kindOfFile } from '../../core/file-kinds.js';
import type { Files } from '../../core/files.js';
import type { UrlTarget } from '../../core/graph/module-content.js';
import type { Edge } from '../../core/graph/module-graph.js';
import type { ModuleRequest } from '../../core/link/linked.js';
import { matchesPattern } from '../../core/link/url-places.js';
import { fileOfId, partId, typedId } from '../../core/module-id.js';
import type { Paths } from '../../core/paths.js';
import type { Problem } from '../../core/problem/problem.js';
import { explainFailure, explainRefusal } from '../../core/resolve/explain-failure.js';
import type { Resolver } from '../../core/resolve/resolver.js';
import type { Adapter } from '../../core/translate/adapter.js';
import { ownIdPrefix } from '../../core/urls.js';
import { realPathNow } from '../files/disk-files.js';
import type { FileGate } from '../files/file-gate.js';

const ownRequire = createRequire(import.meta.url);

/** Helpers of the translator, and Preact's refresh runtime, come with Vine Spark and not with the project. */
const ownPackages = /^@oxc-project\/runtime\/|^@prefresh\/core$/;

/** Preact's refresh runtime, which modules that use Preact import beside what they import themselves. */
export const preactRefresh = '@prefresh/core';

/** The id of the module that stands for what a package leaves out in browsers. */
export const emptyModule = `${ownIdPrefix}empty`;

export interface RequestTargetsOptions {
  paths: Paths;
  resolver: Resolver;
  files: Files;
  gate: FileGate;
  adapters: readonly Adapter[];
}

/** What stands for a part of Node.js that a package asks for. */
export const standInPrefix = `${ownIdPrefix}node/`;

/** What ids of modules begin with that adapters bring along. */
export const helperPrefix = `${ownIdPrefix}adapter/`;

/** The id of Preact's refresh runtime where the project has none of its own. */
export const preactRefreshId = `${helperPrefix}preact/refresh`;

/** Where a request leads: to a module, to nothing that matters before it runs, or nowhere, which is a problem. */
export interface RequestTarget {
  target?: string;
  problem?: Pick<Problem, 'code' | 'message' | 'hint'>;
  /** Of a URL: what it's taken for. */
  kind?: 'url' | 'worker';
  /** What the user should know, though it goes on. */
  warning?: Pick<Problem, 'code' | 'message' | 'hint'>;
}

/** Finds the modules and files that modules ask for. */
export class RequestTargets {
  readonly #options: RequestTargetsOptions;

  constructor(options: RequestTargetsOptions) {
    this.#options = options;
  }

  /** The target of an import or a `require`. One that fails is a problem unless it may be meant to be tried. */
  ofModule(
    id: string,
    { specifier, kind, type, isCertain }: Pick<ModuleRequest, 'specifier' | 'kind' | 'type' | 'isCertain'>,
    wantsUrl: () => boolean = () => true,
  ): RequestTarget {
    const { resolver, paths } = this.#options;
    if (!specifier.startsWith('.')) {
      if (/^(?:[a-z][a-z0-9+.-]+:)?\/\//i.test(specifier) || specifier.startsWith('data:'))
        return kind === 'dynamic' ? {} : { problem: foreign(specifier) };
      if (ownPackages.test(specifier))
        return { target: kind === 'require' ? this.ofOwn(specifier) : this.ofOwn(inModules(specifier)) };
    }
    const inside = /^(part|adapter):(.+)$/s.exec(specifier);
    if (inside) return this.#inside(id, inside[1] as 'part' | 'adapter', inside[2]!);
    const adapted = this.#byAdapter(id, specifier);
    if (adapted !== undefined) return adapted;
    // Preact's refresh runtime, and what adapters bring along, work on the project's own packages.
    const from = id.startsWith(helperPrefix) ? 'page.html' : id;
    const resolution = resolver.resolve(specifier, paths.fileOf(from), kind === 'require' ? 'require' : 'import');
    if ('empty' in resolution) return { target: emptyModule };
    if ('found' in resolution) {
      const target = withType(paths.idOf(resolution.found), type);
      const warning = id.includes('node_modules/') ? undefined : ignoredQuery(specifier, resolution.found);
      const isStarted = kind !== 'require' && target.endsWith('.wasm') && !wantsUrl();
      return { target: isStarted ? typedId(target, 'instance') : target, ...(warning ? { warning } : {}) };
    }
    // What may be tried may fail, but nothing may be tried on files of others.
    if (kind === 'require' && !isCertain && resolution.failure.reason !== 'refused') return {};
    const { failure } = resolution;
    const explained = explainFailure(failure, specifier, paths.root);
    // It may never be called: what runs natively until then runs here.
    if (kind === 'dynamic' && failure.reason !== 'refused') return { warning: explained };
    if (failure.reason === 'builtin' && id.includes('node_modules/'))
      return { target: standInPrefix + failure.name, warning: explained };
    return { problem: explained };
  }

  /** The module of a path that may be meant, if there is one. */
  ofGuess(id: string, specifier: string): string | undefined {
    const { resolver, paths, adapters } = this.#options;
    const resolution = resolver.resolve(specifier, paths.fileOf(id), 'import');
    if (!('found' in resolution)) return undefined;
    const target = paths.idOf(resolution.found);
    const kind = kindOfFile(target);
    return kind === 'script' || kind === 'json' || adapters.some(({ files }) => target.search(files) !== -1) ? target : undefined;
  }

  /** A module that comes with Vine Spark; the project's own where it has one. */
  ofOwn(specifier: string): string {
    const { resolver, paths } = this.#options;
    const helper = /^@oxc-project\/runtime\/helpers\/(.+)$/.exec(specifier)?.[1];
    // Not all of them are listed in the package's exports.
    if (helper !== undefined) return paths.idOf(join(helpersFolder(), `${helper}.js`));
    if (specifier !== preactRefresh) return paths.idOf(ownRequire.resolve(specifier));
    const theirs = resolver.resolve(specifier, paths.fileOf('page.html'), 'import');
    return 'found' in theirs ? paths.idOf(theirs.found) : preactRefreshId;
  }

  /** Whether some specifier of a module leads somewhere else than its edges say. Paths are looked after file by file. */
  areChanged(id: string, edges: readonly Edge[]): boolean {
    return edges.some(({ kind, specifier, target }) => {
      if ((kind !== 'import' && kind !== 'dynamic' && kind !== 'require') || /^[./]/.test(specifier)) return false;
      return this.ofModule(id, { specifier, kind }).target !== fileOfId(target);
    });
  }

  /** The module or file behind `new URL('…', import.meta.url)`; one that isn't there is left to the browser. */
  ofUrl(id: string, { specifier, kind, isService }: ModuleRequest): RequestTarget {
    const { resolver, paths } = this.#options;
    const isPath = /^[./]/.test(specifier);
    const first = resolver.resolve(isPath ? specifier : `./${specifier}`, paths.fileOf(id), 'import');
    // A file of a package, where there is none beside the module.
    const isLost = !isPath && 'failure' in first && first.failure.reason === 'file-missing';
    const resolution = isLost ? resolver.resolve(specifier, paths.fileOf(id), 'import') : first;
    if ('failure' in resolution && resolution.failure.reason === 'refused')
      return { problem: explainFailure(resolution.failure, specifier, paths.root) };
    if (!('found' in resolution)) return {};
    return this.#named(id, paths.idOf(resolution.found), isService ? 'worker' : kind);
  }

  /** What a module gets that names a file by its URL: the file, or a program made of it. */
  #named(importer: string, target: string, kind: ModuleRequest['kind']): { target: string; kind: 'url' | 'worker' } {
    if (kind === 'worker' || this.isProgram(importer, target)) return { target, kind: 'worker' };
    return { target: kindOfFile(target) === 'asset' ? target : typedId(target, 'url'), kind: 'url' };
  }

  /**
   * Whether a script that a module of the application names by its URL has to be made: no browser runs it as it is, or it imports what
   * would not be beside it. Whoever gets the URL starts it, in a worker or the like.
   */
  isProgram(importer: string, id: string): boolean {
    if (importer.includes('node_modules/') || kindOfFile(id) !== 'script') return false;
    if (!/\.[cm]?js$/.test(id)) return true;
    const { files, paths } = this.#options;
    const text = id.includes('node_modules/') ? undefined : files.readText(paths.fileOf(id));
    return text !== undefined && asksForOthers(text);
  }

  /**
   * The modules that a pattern such as `./berths/*.ts` or `@/pages/*\/index` stands for, by the specifiers that name them. `*` stands for
   * anything but a slash.
   */
  matches(
    id: string,
    { specifier: pattern, kind, type, wantsUrl }: ModuleRequest,
  ): { matches: Match[]; problem?: RequestTarget['problem'] } {
    const { resolver, paths, files } = this.#options;
    const head = pattern.slice(0, pattern.slice(0, pattern.indexOf('*')).lastIndexOf('/') + 1);
    const parts = pattern.slice(head.length).split('/');
    const base = this.#foldersOf(id, head).find((folder) => this.#isFolder(folder));
    if (base === undefined) return { matches: [] };
    const last = parts.pop()!;
    const matches = new Map<string, string>();
    for (const inside of this.#foldersIn(base, parts)) {
      for (const name of files.list(join(base, inside)).flatMap((one) => this.#namesFor(join(base, inside, one), last))) {
        const specifier = `${head}${inside}${name}`;
        const resolution = resolver.resolve(specifier, paths.fileOf(id), 'import');
        if ('found' in resolution) {
          const target = withType(paths.idOf(resolution.found), type);
          const isStarted = kind !== 'require' && target.endsWith('.wasm') && !wantsUrl;
          matches.set(specifier, isStarted ? typedId(target, 'instance') : target);
        }
        if ('failure' in resolution && resolution.failure.reason === 'refused' && resolution.failure.why === 'outside')
          return { matches: [], problem: explainFailure(resolution.failure, pattern, paths.root) };
      }
    }
    return { matches: [...matches].map(([specifier, target]) => ({ specifier, target })) };
  }

  /** The folders that the beginning of a specifier may mean. */
  #foldersOf(id: string, head: string): string[] {
    const { resolver, paths } = this.#options;
    const folder = dirname(paths.fileOf(id));
    if (/^\.{1,2}\//.test(head)) return [join(folder, head)];
    return head.startsWith('/') ? [join(paths.root, head)] : resolver.mapped(head, folder);
  }

  /** The folders below `base` that parts of a path stand for, each with a slash behind it. */
  #foldersIn(base: string, parts: readonly string[]): string[] {
    const { files } = this.#options;
    let open = [''];
    for (const part of parts) {
      const names = (inside: string) => (part.includes('*') ? files.list(join(base, inside)).filter(isMeant(part)) : [part]);
      open = open
        .flatMap((inside) => names(inside).map((name) => `${inside}${name}/`))
        .filter((path) => this.#isFolder(join(base, path)));
    }
    return open;
  }

  #isFolder(path: string): boolean {
    return this.#options.files.kindOf(path.replace(/(?<=.)\/$/, '')) === 'folder';
  }

  /** The names by which the last part of a pattern may mean a file, or a folder with an index. */
  #namesFor(path: string, part: string): string[] {
    const { files } = this.#options;
    const name = path.slice(path.lastIndexOf('/') + 1);
    const isNamed = isMeant(part);
    if (files.kindOf(path) === 'folder') return isNamed(name) ? [name] : [];
    // Nothing of types runs.
    if (/\.d\.[cm]?ts$/.test(name)) return [];
    const kind = kindOfFile(name);
    const stem = name.replace(/\.[^.]+$/, '');
    // Scripts can be meant without their extension, and those in TypeScript by that of what is made of them.
    const others =
      kind === 'script' ? [stem, ...(/\.[cm]?tsx?$/.test(name) ? [`${stem}.${/\.([cm]?)tsx?$/.exec(name)![1]}js`] : [])] : [];
    const isWhole = kind !== undefined || /\.\w+$/.test(part);
    return [...(isWhole ? [name] : []), ...others].filter(isNamed);
  }

  /** The same for `./flags/*.svg` as a URL, where `*` may stand in several places and any kind of file is meant. */
  urlMatches(id: string, { specifier: pattern, kind }: ModuleRequest): UrlTarget[] {
    const { paths, files, gate } = this.#options;
    const folder = dirname(paths.fileOf(id));
    const parts = pattern.split('/');
    const last = parts.pop()!;
    const named = this.#foldersIn(folder, parts).flatMap((inside) => {
      const names = last.includes('*') ? files.list(join(folder, inside)).filter(isMeant(last)) : [last];
      return names.map((name) => inside + name).filter((path) => files.kindOf(join(folder, path)) === 'file');
    });
    return named.flatMap((specifier): UrlTarget[] => {
      const file = files.realPath(join(folder, specifier));
      if (gate.refusal(join(folder, specifier), file) !== undefined) return [];
      return [{ specifier, ...this.#named(id, paths.idOf(file), kind), isMatch: true }];
    });
  }

  /** A part of the file that a module is made of, or a module of the adapter that made it. */
  #inside(id: string, what: 'part' | 'adapter', name: string): RequestTarget {
    const file = fileOfId(id);
    const adapter = this.#options.adapters.find(({ files }) => file.search(files) !== -1);
    if (adapter && what === 'part') return { target: partId(file, name) };
    if (adapter?.helpers && Object.hasOwn(adapter.helpers, name)) return { target: `${helperPrefix}${adapter.name}/${name}` };
    const message = adapter
      ? `The adapter '${adapter.name}' has no helper '${name}'.`
      : `'${what}:${name}' names something of an adapter, and none made this module.`;
    return { problem: { code: 'import-unresolved', message } };
  }

  /** Where the user's own adapters put a specifier. One that fails or gives nonsense is a problem that names it. */
  #byAdapter(id: string, specifier: string): RequestTarget | undefined {
    const { adapters, paths, gate } = this.#options;
    for (const { name, resolve } of adapters) {
      if (!resolve) continue;
      const failed = (why: string) => ({
        problem: { code: 'adapter-failed' as const, message: `The adapter '${name}' failed to resolve '${specifier}': ${why}` },
      });
      let found: unknown;
      try {
        found = resolve(specifier, paths.fileOf(id));
      } catch (error) {
        return failed(error instanceof Error ? error.message : String(error));
      }
      if (found === undefined || found === null) continue;
      if (typeof found !== 'string' || !isAbsolute(found)) return failed('it must give an absolute path, or nothing.');
      const real = realPathNow(found);
      const why = real === undefined ? undefined : gate.refusal(found, real);
      if (real !== undefined && why !== undefined) return { problem: explainRefusal({ why, file: real }, specifier) };
      return { target: paths.idOf(real ?? found) };
    }
    return undefined;
  }
}

/** Whether a script names other files. */
function asksForOthers(text: string): boolean {
  if (!text.includes('import') && !text.includes('export')) return false;
  try {
    const [imports] = parse(text);
    return imports.some(({ specifier }) => typeof specifier === 'string' && !/^(?:[a-z][a-z0-9+.-]+:|\/\/)/i.test(specifier));
  } catch {
    return false; // it's told when it runs
  }
}

function foreign(specifier: string): NonNullable<RequestTarget['problem']> {
  return {
    code: 'import-unresolved',
    message: `'${specifier}' is a URL, which can only be imported with import().`,
    hint: 'Install the package instead, or load it with import().',
  };
}

/** What to say of a path with a query, unless a file is called like that. */
function ignoredQuery(specifier: string, found: string): RequestTarget['warning'] {
  const query = /^[^?]+(\?.*)$/s.exec(specifier)?.[1];
  if (query === undefined || found.endsWith(query)) return undefined;
  return {
    code: 'query-ignored',
    message: `'${query}' behind a path means nothing here: the file is imported as it is, and once.`,
    hint: "Take it away. { type: 'text' } and { type: 'bytes' } import what a file holds, new URL('…', import.meta.url) is its address.",
  };
}

/** Kinds of files for which a type attribute says nothing new. */
const kindOfType: Record<string, string> = { javascript: 'script' };

/** The id of a module that is imported with a type attribute. */
function withType(id: string, type: string | undefined): string {
  return type === undefined || kindOfType[type] === kindOfFile(id) ? id : typedId(id, type);
}

/** Where the helpers of the translator are. */
function helpersFolder(): string {
  return join(dirname(ownRequire.resolve('@oxc-project/runtime/package.json')), 'src/helpers');
}

/** The helpers of the translator come in two formats; between modules, those that nobody uses can be left out. */
function inModules(specifier: string): string {
  return specifier.replace(/^(@oxc-project\/runtime\/helpers\/)(?!esm\/)/, '$1esm/');
}

/** A module among those that an expression may name. */
export interface Match {
  specifier: string;
  target: string;
}

/** Whether a name of a file or folder is one that a part of a pattern stands for. None of those that stay hidden is. */
function isMeant(part: string): (name: string) => boolean {
  return (name) => matchesPattern(part, name) && name !== 'node_modules' && (!name.startsWith('.') || part.startsWith('.'));
}
