import { existsSync, realpathSync } from 'node:fs';
import { createRequire } from 'node:module';
import { basename, dirname, resolve } from 'node:path';
import type { RawMap } from '../core/maps/raw-map.js';
import { contentHash, shortHash } from '../core/text/content-hash.js';
import type { Adapter, AdapterContext, AdapterMessage, AdapterPart, AdapterResult } from '../core/translate/adapter.js';
import { blanked } from './blanked.js';
import { type FoundCompiler, findCompiler, installedVersion } from './compilers.js';
import { vueHelper } from './vue-helper.js';
import { failures, type Located, messageOf, placeOf, readMessage } from './vue-messages.js';

/** The part of `vue/compiler-sfc` that is used here. */
interface VueCompiler {
  parse(source: string, options: object): { descriptor: Descriptor; errors: (Error & Located)[] };
  compileScript(descriptor: Descriptor, options: object): CompiledScript;
  compileTemplate(options: object): { code: string; map?: RawMap; errors: (string | (Error & Located))[]; tips: string[] };
  compileStyleAsync(options: object): Promise<{ code: string; map?: RawMap; errors: Error[] }>;
  invalidateTypeCache?(file: string): void;
  registerTS?(load: () => unknown): void;
}

interface Block {
  type: string;
  content: string;
  lang?: string;
  src?: string;
  attrs: Record<string, string | true>;
  loc: { start: { offset: number; line: number; column: number }; end: { offset: number } };
}

interface Descriptor {
  source: string;
  template: (Block & { ast?: unknown; map?: RawMap }) | null;
  script: Block | null;
  scriptSetup: Block | null;
  styles: (Block & { scoped?: boolean; module?: string | true })[];
  customBlocks: Block[];
  slotted: boolean;
}

interface CompiledScript {
  content: string;
  map?: RawMap;
  bindings?: object;
  deps?: string[];
  warnings?: string[];
  scriptAst?: { type: string; exportKind?: string }[];
}

const need = { framework: 'vue', entry: 'vue/compiler-sfc', majors: [3], what: 'Components of Vue' } as const;
const emptyMap: RawMap = { version: 3, sources: [''], names: [], mappings: '' };

/** Makes modules of `.vue` files, with the compiler of the project's own Vue 3. `root`: absolute path of the project. */
export function vueAdapter(root: string): Adapter {
  let found: Promise<FoundCompiler<VueCompiler>> | undefined;
  /** Files whose types went into components: the compiler remembers what it read. */
  const typeFiles = new Set<string>();
  const compilerFor = (file: string) => {
    found ??= findCompiler<VueCompiler>(file, need).then(
      (result) => {
        result.compiler.registerTS?.(() => typescriptOf(file));
        return result;
      },
      (error: unknown) => {
        found = undefined;
        throw error;
      },
    );
    return found;
  };
  return {
    name: 'vue',
    files: /\.vue$/,
    helpers: { 'component.js': vueHelper },
    version: () => installedVersion(root, 'vue'),
    async translate(source, context) {
      const { compiler } = await compilerFor(context.file);
      for (const file of typeFiles) compiler.invalidateTypeCache?.(file);
      const translation = new Translation(compiler, source, context);
      try {
        return await translation.run();
      } finally {
        for (const file of translation.typeFiles) typeFiles.add(file);
      }
    },
    async finishCss(css, { file, id, name }) {
      const { compiler } = await compilerFor(file);
      const { code, map, errors } = await compiler.compileStyleAsync({
        source: css,
        filename: file,
        id: `data-v-${scopeOf(id)}`,
        scoped: name.includes('.scoped.'),
        isProd: name.includes('.built.'),
        // A map of its own, instead of one that goes on through another.
        postcssOptions: { map: { inline: false, annotation: false, prev: false } },
      });
      if (errors[0]) throw errors[0];
      return { code, ...(map ? { map: { ...map, sources: map.sources.map(() => file) } } : {}) };
    },
  };
}

/** TypeScript as a library, which the compiler asks about types that are imported from packages; newer majors aren't one. */
function typescriptOf(file: string): unknown {
  try {
    const typescript = createRequire(file)('typescript') as { sys?: unknown };
    return typescript.sys ? typescript : undefined;
  } catch {
    return undefined; // it does without, but for packages
  }
}

/** By this, the styles of a component know its elements. */
function scopeOf(id: string): string {
  return shortHash(id);
}

/** One component on its way to modules. */
class Translation {
  readonly typeFiles = new Set<string>();
  readonly #compiler: VueCompiler;
  readonly #source: string;
  readonly #context: AdapterContext;
  readonly #parts: Record<string, AdapterPart> = {};
  readonly #warnings: AdapterMessage[] = [];
  /** Statements of the component's own module. */
  readonly #imports: string[] = [];
  readonly #fields: string[] = [];

  constructor(compiler: VueCompiler, source: string, context: AdapterContext) {
    this.#compiler = compiler;
    this.#source = source;
    this.#context = context;
  }

  get #isBuilt(): boolean {
    return this.#context.mode === 'production';
  }

  get #scope(): string {
    return scopeOf(this.#context.id);
  }

  async run(): Promise<AdapterResult> {
    try {
      return await this.#whole();
    } catch (error) {
      // The compiler names the file by its path.
      for (const one of (error as { errors?: AdapterMessage[] }).errors ?? [])
        one.message = one.message.replaceAll(this.#context.file, '').trim();
      throw error;
    }
  }

  async #whole(): Promise<AdapterResult> {
    const { file, id } = this.#context;
    const { descriptor, errors } = this.#compiler.parse(this.#source, { filename: file, sourceMap: true });
    if (errors.length > 0) throw failures(errors.map((error) => messageOf(error)));
    if (!descriptor.script && !descriptor.scriptSetup && !descriptor.template)
      throw failures([{ message: 'The component has neither a <template> nor a <script>.', line: 1, column: 1 }]);
    const isScoped = descriptor.styles.some(({ scoped }) => scoped);
    const { isInlined, names, bindings } = this.#script(descriptor, isScoped);
    const template = isInlined ? undefined : this.#template(descriptor, isScoped, bindings);
    const modules = this.#styles(descriptor);
    if (isScoped) this.#fields.push(`__scopeId: ${JSON.stringify(`data-v-${this.#scope}`)}`);
    if (!this.#isBuilt) this.#fields.push(`__file: ${JSON.stringify(id)}`);
    if (template) this.#fields.push('render');
    const blocks = await this.#blocks(descriptor);
    return {
      code: this.#main({ names, template, modules, blocks, isScoped }),
      map: emptyMap,
      parts: this.#parts,
      holdsNoState: true,
      ...(this.#warnings.length > 0 ? { warnings: this.#warnings } : {}),
    };
  }

  /** The component's script, as a part of its own so that a change of the template doesn't run it. */
  #script(descriptor: Descriptor, isScoped: boolean): { isInlined: boolean; names: boolean; bindings: object | undefined } {
    const { script, scriptSetup, template } = descriptor;
    const { id } = this.#context;
    if (!script && !scriptSetup) {
      this.#imports.push('const script = {};');
      return { isInlined: false, names: false, bindings: undefined };
    }
    if (script?.src && !scriptSetup) {
      const from = JSON.stringify(script.src);
      this.#imports.push(`import script from ${from};`, `export * from ${from};`);
      return { isInlined: false, names: true, bindings: undefined };
    }
    const block = (scriptSetup ?? script)!;
    const language = block.lang ?? 'js';
    if (!['js', 'jsx', 'ts', 'tsx'].includes(language))
      throw failures([{ message: `Scripts in the language '${language}' are not translated.`, ...placeOf(block) }]);
    const isInlined = this.#isBuilt && scriptSetup !== null && template !== null && !template.src;
    const compiled = this.#tried(() =>
      this.#compiler.compileScript(descriptor, {
        id: this.#scope,
        isProd: this.#isBuilt,
        inlineTemplate: isInlined,
        sourceMap: true,
        fs: this.#files(),
        templateOptions: this.#templateOptions(descriptor, isScoped),
      }),
    );
    for (const dependency of compiled.deps ?? []) this.#dependOnTypes(dependency);
    for (const warning of compiled.warnings ?? []) this.#warnings.push(readMessage(warning));
    const name = `script.${language}`;
    this.#parts[name] = { text: compiled.content, ...mapped(compiled.map, id) };
    const names = (compiled.scriptAst ?? []).some(
      ({ type, exportKind }) => /^Export(?:Named|All)Declaration$/.test(type) && exportKind !== 'type',
    );
    this.#imports.push(`import script from 'part:${name}';`);
    if (names) this.#imports.push(`export * from 'part:${name}';`);
    return { isInlined, names, bindings: compiled.bindings };
  }

  #template(descriptor: Descriptor, isScoped: boolean, bindings: object | undefined): string | undefined {
    const { template, script, scriptSetup } = descriptor;
    if (!template) return undefined;
    const { file, id } = this.#context;
    const from = template.src === undefined ? undefined : resolve(dirname(file), template.src);
    const source = from === undefined ? template.content : this.#context.read(from);
    if (source === undefined)
      throw failures([
        { message: `The file '${template.src}' of the <template> does not exist, or may not be read.`, ...placeOf(template) },
      ]);
    const isWhole = from === undefined && !template.lang;
    const { code, map, errors, tips } = this.#tried(() =>
      this.#compiler.compileTemplate({
        ...this.#templateOptions(descriptor, isScoped),
        source,
        filename: from ?? file,
        ...(isWhole && template.ast ? { ast: template.ast } : {}),
        ...(isWhole && template.map ? { inMap: template.map } : {}),
        compilerOptions: {
          ...this.#templateOptions(descriptor, isScoped).compilerOptions,
          ...(bindings ? { bindingMetadata: bindings } : {}),
        },
      }),
    );
    if (errors.length > 0) throw failures(errors.map((error) => messageOf(error)));
    for (const tip of tips) this.#warnings.push(readMessage(tip));
    const language = /^tsx?$/.test((scriptSetup ?? script)?.lang ?? '') ? 'ts' : 'js';
    const name = `template.${language}`;
    this.#parts[name] = {
      text: code,
      ...mapped(map, from ?? id),
      ...(from === undefined ? {} : { file: from }),
      holdsNoState: true,
    };
    this.#imports.push(`import { render } from 'part:${name}';`);
    return name;
  }

  #templateOptions(descriptor: Descriptor, isScoped: boolean) {
    const { file } = this.#context;
    const { template, script, scriptSetup, slotted } = descriptor;
    const isTypeScript = /^tsx?$/.test((scriptSetup ?? script)?.lang ?? '');
    return {
      id: this.#scope,
      scoped: isScoped,
      slotted,
      isProd: this.#isBuilt,
      transformAssetUrls: true,
      ...(template?.lang && template.lang !== 'html'
        ? { preprocessLang: template.lang, preprocessCustomRequire: createRequire(file) }
        : {}),
      compilerOptions: {
        ...(isScoped ? { scopeId: `data-v-${this.#scope}` } : {}),
        sourceMap: true,
        ...(isTypeScript ? { expressionPlugins: ['typescript'] } : {}),
      },
    };
  }

  /** Adds the style sheets. Returns which of them give names to the component. */
  #styles({ styles }: Descriptor): { part: string; name: string }[] {
    const { file } = this.#context;
    const modules: { part: string; name: string }[] = [];
    for (const [index, style] of styles.entries()) {
      const language = !style.lang || style.lang === 'postcss' ? 'css' : style.lang;
      if (!['css', 'scss', 'sass'].includes(language))
        throw failures([{ message: `Styles in the language '${language}' are not translated.`, ...placeOf(style) }]);
      const kinds = `${style.scoped ? '.scoped' : ''}${this.#isBuilt ? '.built' : ''}${style.module ? '.module' : ''}`;
      const part = `style${index}${kinds}.${language}`;
      const from = style.src === undefined ? undefined : resolve(dirname(file), style.src);
      if (from !== undefined && !style.scoped && !style.module) {
        this.#imports.push(`import ${JSON.stringify(style.src)};`);
        continue;
      }
      const text = from === undefined ? '' : this.#context.read(from);
      if (text === undefined)
        throw failures([
          { message: `The file '${style.src}' of the <style> does not exist, or may not be read.`, ...placeOf(style) },
        ]);
      const { start, end } = style.loc;
      this.#parts[part] = from === undefined ? { text: blanked(this.#source, start.offset, end.offset) } : { text, file: from };
      if (style.module) {
        modules.push({ part, name: style.module === true ? '$style' : style.module });
        this.#imports.push(`import style${index} from 'part:${part}';`);
      } else this.#imports.push(`import 'part:${part}';`);
    }
    return modules;
  }

  /** Custom blocks that some adapter takes. */
  async #blocks({ customBlocks }: Descriptor): Promise<number> {
    let taken = 0;
    for (const block of customBlocks) {
      const made = await this.#context.block?.(block.type, block.content, block.attrs);
      if (!made) continue;
      this.#parts[`block${taken}.js`] = { text: made, map: emptyMap };
      this.#imports.push(`import block${taken} from 'part:block${taken}.js';`);
      taken++;
    }
    return taken;
  }

  /** The component's own module: puts its parts together, and says how it takes their updates. */
  #main({ names, template, modules, blocks, isScoped }: MainParts): string {
    const { id, file } = this.#context;
    const fields = [...this.#fields];
    if (modules.length > 0) {
      const list = modules.map(({ part, name }) => `${JSON.stringify(name)}: ${/^style\d+/.exec(part)![0]}`);
      fields.push(`__cssModules: {${list.join(', ')}}`);
    }
    const after = Array.from({ length: blocks }, (_, index) => `block${index}(component);`);
    const lines = [
      `import { completed${this.#isBuilt ? '' : ', follow'} } from 'adapter:component.js';`,
      ...this.#imports,
      `const ${this.#isBuilt ? 'component' : 'fresh'} = /*#__PURE__*/completed(script, { ${fields.join(', ')} });`,
    ];
    if (!this.#isBuilt) {
      const name = basename(file, '.vue');
      const about = JSON.stringify({ id: contentHash(id), name, scope: isScoped ? this.#scope : '', hasNames: names });
      lines.push(
        'const live = import.meta.live;',
        `const update = live && follow(live, fresh, script, ${about});`,
        'const component = update ? update.component : fresh;',
      );
      if (template) lines.push(`if (update) live.take('part:${template}', ({ render }) => update.render(render));`);
      for (const { part, name: key } of modules)
        lines.push(`if (update) live.take('part:${part}', ({ default: names }) => update.names(${JSON.stringify(key)}, names));`);
    }
    return `${[...lines, ...after].join('\n')}\nexport default component;\n`;
  }

  /** How the compiler reads types that components take their props from. */
  #files() {
    return {
      fileExists: (path: string) => existsSync(path),
      readFile: (path: string) => {
        this.#dependOnTypes(path);
        return this.#context.read(path);
      },
      realpath: (path: string) => realpathSync(path),
    };
  }

  #dependOnTypes(path: string): void {
    this.typeFiles.add(path);
    this.#context.dependOn(path);
  }

  #tried<T>(work: () => T): T {
    try {
      return work();
    } catch (error) {
      throw failures([readMessage(error instanceof Error ? error.message : String(error))]);
    }
  }
}

interface MainParts {
  names: boolean;
  template: string | undefined;
  modules: { part: string; name: string }[];
  blocks: number;
  isScoped: boolean;
}

function mapped(map: RawMap | undefined, source: string): { map: RawMap } {
  return { map: map ? { ...map, sources: [source] } : emptyMap };
}
