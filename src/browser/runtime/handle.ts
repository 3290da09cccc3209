import { ownPrefix } from '../../core/urls.js';
import { frontEndBase, isElsewhere, ours, placeOfServer } from './base-path.js';
import { asyncBodyDone } from './evaluate.js';
import { hookKey } from './hook.js';
import { pushExports } from './link.js';
import { liveOf } from './live-api.js';
import { completeBelow, loadTarget } from './load-piece.js';
import { type Instance, registry, surface } from './records.js';
import { registerComponent, signatureFunction } from './refresh.js';
import { readTarget, resolveImport } from './resolve-export.js';
import { importModule } from './run-modules.js';
import { arrangeSheets, ensureSheetsBelow, isLateRoot, noteRoot } from './sheets.js';

/** What the URLs of workers begin with. */
function workerUrls(): string {
  return `${frontEndBase()}${ownPrefix}piece/worker/`;
}

/** What a linked module calls `my`: its side of the runtime. Each method stands for a piece of syntax. */
export class Handle {
  readonly #instance: Instance;
  #meta: object | undefined;
  readonly #parts = new Map<string, Handle>();

  constructor(instance: Instance) {
    this.#instance = instance;
  }

  /** `import` declarations: dependency by place, name (`null` for the namespace), and the setter of the variable. */
  bind(bindings: [number, string | null, (value: unknown) => void, isWhole?: boolean][]): void {
    this.#instance.bindings = bindings.map(([dependency, name, set, isWhole = false]) => ({
      dependency,
      name,
      set,
      isWhole,
      isReady: false,
    }));
  }

  /**
   * `export` declarations. `early` are hoisted functions, readable before the body has run. `inner` are names that only modules of
   * the build ask for: they are no exports.
   */
  exports(
    getters: Record<string, () => unknown>,
    early: string[] = [],
    indirect: [exported: string, dependency: number, name: string | null][] = [],
    stars: number[] = [],
    inner: string[] = [],
  ): void {
    const instance = this.#instance;
    instance.getters = getters;
    instance.inner = new Set(inner);
    instance.early = early;
    instance.indirect = new Map(indirect.map(([exported, dependency, name]) => [exported, [dependency, name]]));
    instance.stars = stars;
  }

  /** After an assignment to an exported variable: importers follow. Returns the value of the assignment. */
  touch<T>(name: string, value: T): T {
    pushExports(this.#instance, [name]);
    return value;
  }

  /**
   * A read of an import that may come too early: throws where the standard does (ECMA-262, 9.1.1.5.1). `value` is what the
   * variable holds. Returns what it has to hold.
   */
  ok<T>(place: number, local: string, value: T): T {
    const binding = this.#instance.bindings[place]!;
    if (binding.isReady) return value;
    const target = resolveImport(this.#instance, binding);
    if (target === null || target === 'ambiguous') return value;
    try {
      const now = readTarget(target) as T;
      binding.set(now);
      binding.isReady = 'namespace' in target || target.instance.status === 'evaluated';
      return now;
    } catch (error) {
      const isEarly = error instanceof ReferenceError && !('namespace' in target);
      throw isEarly ? tooEarly(this.#instance, target.instance, local, error) : error;
    }
  }

  /** `import()`. */
  async get(specifier: unknown, options?: { with?: { type?: string } }): Promise<object> {
    const name = String(specifier);
    const { dynamic } = this.#instance.definition.edges;
    const target = dynamic?.[options?.with?.type ? `${name}\0${options.with.type}` : name] ?? dynamic?.[name];
    if (target?.missing !== undefined) throw new TypeError(target.missing);
    // Not known when the module was linked: leave it to the browser, as seen from the source's place.
    if (!target) return importNatively(new URL(name, sourceUrl(this.#instance)));
    // What was asked for before and has run has all it needs. One that was imported by others until now may have lost its sheets.
    const isNews = !isLateRoot(target.id);
    noteRoot(target.id);
    if (isNews || !registry.get(target.id)?.instance) {
      await loadTarget(target);
      await completeBelow([target.id]);
      await ensureSheetsBelow([target.id]);
      // A sheet that two late modules share stands where the first of them wants it, whichever came first.
      await arrangeSheets();
    }
    return importModule(target.id, this.#instance.definition.edges.nodeDefault);
  }

  /** The URL behind `new URL('…', import.meta.url)`. */
  at(place: number): string {
    return fileAt(this.#instance.definition.edges.urls![place]!);
  }

  /** What `new URL(…, import.meta.url)` has to be told instead of a path that was put together: a file, or that path. */
  pathOf(path: unknown): string {
    const named = String(path);
    const { files } = this.#instance.definition.edges;
    return files && Object.hasOwn(files, named) ? fileAt(files[named]!) : named;
  }

  /** `import.meta`. */
  get meta(): object {
    this.#meta ??= Object.assign(Object.create(null) as object, {
      url: sourceUrl(this.#instance),
      base: frontEndBase(),
      resolve: (specifier: string) => resolveUrl(specifier, sourceUrl(this.#instance)),
      ...(surface.isLive ? { live: liveOf(this.#instance) } : {}),
    });
    return this.#meta;
  }

  /** The URL of the file that the module stands for. */
  get url(): string | undefined {
    const { url } = this.#instance.definition.edges;
    return url === undefined ? undefined : ours(url);
  }

  /** The side of one of several modules that share a scope. */
  of(id: string): Handle {
    const known = this.#parts.get(id);
    if (known) return known;
    const { definition } = this.#instance;
    const { nodeDefault } = definition.edges;
    const edges = { version: '', imports: [], ...(nodeDefault ? { nodeDefault } : {}), ...definition.edges.parts?.[id] };
    const part = new Handle({ ...this.#instance, entry: { ...this.#instance.entry, id }, definition: { ...definition, edges } });
    this.#parts.set(id, part);
    return part;
  }

  /** A function or class keeps the name that it has in its source. `given` is what its variable is called. */
  named<T>(value: T, name: string, given = ''): T {
    const own = Object.getOwnPropertyDescriptor(value, 'name');
    if (own && own.value === given) Object.defineProperty(value, 'name', { value: name, configurable: true });
    return value;
  }

  /** The body of a module with top-level `await` has ended. */
  done(): void {
    asyncBodyDone(this.#instance);
  }

  /** A React component was declared. */
  reg(component: unknown, name: string): void {
    registerComponent(component, name, this.#instance);
  }

  /** Records which hooks a component uses. */
  sig(): unknown {
    return signatureFunction();
  }
}

/** Where a file that a module names is. */
function fileAt(named: string): string {
  const url = surface.workerUrl?.(named) ?? named;
  // A worker's script holds its own client, so it's given to whoever knows the key.
  if (url.startsWith(workerUrls())) return workerPlace(`${url}&key=${hookKey()}`);
  return ours(url.includes('.js?service=') ? `${url}&key=${hookKey()}` : url);
}

/** The error for a read before the exporter has run; says which modules wait for each other. */
function tooEarly(reader: Instance, exporter: Instance, local: string, cause: unknown): ReferenceError {
  const way = importPath(exporter, reader);
  const cycle = way
    ? `: ${exporter.entry.id}, which exports it, has not run yet, because it needs ${[...way.slice(1), exporter.entry.id].join(' → ')}`
    : '';
  return new ReferenceError(`Cannot access '${local}' before initialization${cycle}`, { cause });
}

/** A shortest chain of static imports. */
function importPath(from: Instance, to: Instance): string[] | undefined {
  const cameFrom = new Map<string, string | undefined>([[from.entry.id, undefined]]);
  for (const id of cameFrom.keys()) {
    if (id === to.entry.id) {
      const path: string[] = [];
      for (let at: string | undefined = id; at !== undefined; at = cameFrom.get(at)) path.unshift(at);
      return path;
    }
    for (const target of registry.get(id)?.definition.edges.imports ?? []) if (!cameFrom.has(target)) cameFrom.set(target, id);
  }
  return undefined;
}

/** What the browser itself makes of a URL: of what isn't there, as with modules of the project that no text names, it says little. */
async function importNatively(url: URL): Promise<object> {
  try {
    return (await import(url.href)) as object;
  } catch (error) {
    const isOurs = url.href.startsWith(new URL(ours(frontEndBase()), location.href).href);
    if (!(error instanceof TypeError) || !isOurs || !/fetch|load|import/i.test(error.message)) throw error;
    throw new TypeError(
      `${error.message} (import() finds a module of the project if its path stands as a string in the module that imports it, or with parts that vary, such as \`./berths/\${name}.js\`)`,
    );
  }
}

/** `import.meta.resolve` (HTML Living Standard, 8.1.6.7): bare specifiers mean nothing without an import map. */
function resolveUrl(specifier: string, from: string): string {
  if (/^\.{0,2}\//.test(specifier) || URL.canParse(specifier)) return new URL(specifier, from).href;
  throw new TypeError(`Failed to execute 'resolve' on 'import.meta': Failed to resolve module specifier '${specifier}'`);
}

/** Browsers start no worker from another origin: a script of the page's own origin fetches it then. */
function workerPlace(url: string): string {
  if (!isElsewhere()) return ours(url);
  const known = workerUrlsHere.get(url);
  if (known !== undefined) return known;
  const place = JSON.stringify(ours(url));
  // Messages that come before the worker's own script wait for it.
  const script = `self['~spark place'] = ${JSON.stringify(placeOfServer())};
const early = [];
const keep = (event) => { event.stopImmediatePropagation(); early.push(event); };
addEventListener('message', keep);
fetch(${place}).then((answer) => answer.text()).then((text) => {
  removeEventListener('message', keep);
  (0, eval)(text + '\\n//# sourceURL=' + ${place});
  for (const { data, ports } of early) dispatchEvent(new MessageEvent('message', { data, ports: [...ports] }));
});`;
  const made = URL.createObjectURL(new Blob([script], { type: 'text/javascript' }));
  workerUrlsHere.set(url, made);
  return made;
}

const workerUrlsHere = new Map<string, string>();

/** Where the module's source would be if the browser had loaded it natively. */
function sourceUrl(instance: Instance): string {
  return new URL(instance.entry.id, new URL(ours(frontEndBase()), location.href)).href;
}
