import type { AcceptedPlugin, Root } from 'postcss';
import { refuseDeepSheet } from '../../core/documents/deep-sheet.js';
import type { Problem } from '../../core/problem/problem.js';
import { shortHash } from '../../core/text/content-hash.js';
import { type CompiledStyle, mapOf, run } from './compiled-style.js';

export interface CssModulesOptions {
  /** The file that a specifier in a sheet means, or why there is none. */
  resolve(specifier: string, file: string): { found: string } | { problem: Pick<Problem, 'code' | 'message' | 'hint'> };
  /** The id of the module for a file. */
  idOf(file: string): string;
  /** Another sheet. */
  compile(id: string, file: string): Promise<CompiledStyle | Problem>;
}

/** What taking names from other sheets adds to. */
interface Taking {
  /** The sheet. */
  file: string;
  /** What the names of its classes end with; absent where it's no CSS module. */
  suffix?: string;
  exports: Record<string, string>;
  dependencies: string[];
  composed: string[];
}

/** Makes CSS modules: sheets whose classes have names of their own, and take some from others. */
export class CssModules {
  readonly #options: CssModulesOptions;
  /** Sheets that others take names from, as they were made since everything was settled last: some are taken from by thousands. */
  readonly #taken = new Map<string, Promise<CompiledStyle | Problem>>();
  /** File -> those from which it takes names. */
  readonly #takes = new Map<string, Set<string>>();

  constructor(options: CssModulesOptions) {
    this.#options = options;
  }

  /** What other sheets offer may be another thing from now on. */
  forget(): void {
    this.#taken.clear();
    this.#takes.clear();
  }

  /** Gives classes names of their own and collects them. Names from other modules are looked up there. */
  async compile(id: string, file: string, style: CompiledStyle): Promise<CompiledStyle> {
    refuseDeepSheet(id, style.css);
    const [values, local, extract, scope] = await Promise.all(
      [
        'postcss-modules-values',
        'postcss-modules-local-by-default',
        'postcss-modules-extract-imports',
        'postcss-modules-scope',
      ].map(async (name) => ((await import(name)) as { default: (options?: object) => AcceptedPlugin }).default),
    );
    const suffix = shortHash(id);
    const dependencies: string[] = [];
    const composed: string[] = [];
    const exports: Record<string, string> = {};
    const collect = {
      postcssPlugin: 'collect-exports',
      OnceExit: (root: Root) => this.#collect(root, { file, suffix, exports, dependencies, composed }),
    };
    const plugins = [
      values!(),
      local!({ mode: 'local' }),
      extract!(),
      composedAhead,
      scope!({ generateScopedName: (name: string) => `${name}_${suffix}` }),
      collect,
    ];
    const result = await run(plugins, file, style);
    return {
      css: result.css,
      map: await mapOf(result, style),
      dependencies: [...new Set([...style.dependencies, ...dependencies])],
      folders: style.folders,
      exports,
      composed,
    };
  }

  /** Reads and removes the `:import` and `:export` rules that the plugins leave (the ICSS format), and puts in what is imported. */
  async #collect(root: Root, into: Taking): Promise<void> {
    const { extractICSS, replaceSymbols, replaceValueSymbols } = await import('icss-utils');
    const { icssImports, icssExports } = extractICSS(root);
    const symbols: Record<string, string> = {};
    for (const [specifier, names] of Object.entries(icssImports)) {
      const from = specifier.replace(/^(['"])(.*)\1$/, '$2');
      const exports = await this.#exportsOf(from, into, icssExports);
      for (const [local, imported] of Object.entries(names)) {
        if (!Object.hasOwn(exports, imported) && !into.file.includes('/node_modules/')) throw notOffered(from, imported, exports);
        symbols[local] = exports[imported] ?? '';
      }
    }
    replaceSymbols(root, symbols);
    for (const [name, value] of Object.entries(icssExports)) {
      const words = replaceValueSymbols(value, symbols).split(' ');
      // A class that is composed over several ways is there once. Values may say anything twice.
      const isClass = words.length > 1 && words[0] === `${name}_${into.suffix}`;
      into.exports[name] = (isClass ? [...new Set(words)] : words).join(' ');
    }
  }

  /** The names of another sheet; `own` are those of the sheet itself. */
  async #exportsOf(specifier: string, into: Taking, own: Record<string, string>): Promise<Record<string, string>> {
    const resolution = this.#options.resolve(specifier, into.file);
    if ('problem' in resolution)
      throw Object.assign(new Error(resolution.problem.message), { specifier, problem: resolution.problem });
    const file = resolution.found;
    if (file === into.file) return own;
    if (this.#isTakenBy(file, into.file)) throw inCircle(specifier);
    this.#takes.set(into.file, (this.#takes.get(into.file) ?? new Set()).add(file));
    const taken = this.#taken.get(file) ?? this.#options.compile(this.#options.idOf(file), file);
    this.#taken.set(file, taken);
    const compiled = await taken;
    if ('code' in compiled) {
      const { code, message, hint } = compiled;
      throw Object.assign(new Error(message), { specifier, problem: { code, message, ...(hint === undefined ? {} : { hint }) } });
    }
    into.dependencies.push(file, ...compiled.dependencies);
    into.composed.push(specifier);
    const at = (error: object) => {
      throw Object.assign(error, { specifier });
    };
    return compiled.exports ?? this.#globalsOf(file, compiled, into.dependencies).catch(at);
  }

  /** Whether a sheet takes names from another, over whatever others. */
  #isTakenBy(file: string, other: string): boolean {
    const found = new Set([file]);
    for (const at of found) for (const next of this.#takes.get(at) ?? []) found.add(next);
    return found.has(other);
  }

  /** What a sheet that is no module offers: its values, and its classes under their own names. */
  async #globalsOf(file: string, style: CompiledStyle, dependencies: string[]): Promise<Record<string, string>> {
    const { default: values } = (await import('postcss-modules-values' as string)) as { default: () => AcceptedPlugin };
    const exports: Record<string, string> = {};
    const collect = {
      postcssPlugin: 'collect-values',
      OnceExit: (root: Root) => this.#collect(root, { file, exports, dependencies, composed: [] }),
    };
    const { root } = await run([values(), collect], file, style);
    root.walkRules(({ selector }) => {
      for (const [, name] of selector.matchAll(/\.(-?[_a-z\u0080-\uffff][\w\u0080-\uffff-]*)/gi)) exports[name!] ??= name!;
    });
    return exports;
  }
}

function inCircle(specifier: string): Error {
  const message = `'${specifier}' takes names from sheets that take names from it.`;
  const hint = 'Move what both use to a sheet of its own.';
  return Object.assign(new Error(message), { specifier, problem: { code: 'export-missing' as const, message, hint } });
}

function notOffered(specifier: string, name: string, offered: Readonly<Record<string, string>>): Error {
  const message = `'${specifier}' has no class and no value '${name}'.`;
  const names = Object.keys(offered);
  const hint = names.length > 0 && names.length < 20 ? `It has ${names.join(', ')}.` : 'Look for another spelling of the name.';
  return Object.assign(new Error(message), { specifier, problem: { code: 'export-missing' as const, message, hint } });
}

/** The plugin that gives classes their names wants a class to stand above those that are composed of it: an empty rule does. */
const composedAhead: AcceptedPlugin = {
  postcssPlugin: 'composed-ahead',
  Once(root, { Rule }) {
    const names = new Set<string>();
    root.walkDecls(/^compose(?:s|-with)$/i, ({ value }) => {
      if (!/\sfrom\s/.test(value)) for (const name of value.split(/[\s,]+/)) if (/^[\w-]+$/.test(name)) names.add(name);
    });
    const isThere = (name: string) => new RegExp(`:local\\(\\.${name}\\)`).test(root.toString());
    for (const name of names)
      if (isThere(name))
        root.prepend(new Rule({ selector: `:local(.${name})`, ...(root.source ? { source: root.source } : {}) }));
  },
};
