import type { RuntimeEdges } from '../../core/pieces/runtime-edges.js';
import { Handle } from './handle.js';
import { hookKey, pieceRan } from './hook.js';
import { type Definition, defineModule, entries, type Factory, registry, surface } from './records.js';
import { isRefused, parseModule, recovered } from './refused.js';
import { requireFrom } from './require.js';
import { runEntry } from './run-modules.js';

surface.handleOf = (instance) => new Handle(instance);
surface.requireFrom = requireFrom;

let collecting: Map<string, Definition> | null = null;
let hasStarted: () => void;

/** Settles once the page's own modules have been started. */
export const started = new Promise<void>((resolve) => {
  hasStarted = resolve;
});

/** Whether the page itself loads this module. */
export function isEntry(id: string): boolean {
  return entries.has(id);
}

/** From now on registered modules are put aside in the map returned, until this is called with `null`. */
export function collectDefinitions(off?: null): Map<string, Definition> {
  collecting = off === null ? null : new Map();
  return collecting ?? new Map();
}

/** The versions of the pieces that this page runs, by name. */
export const pieceTags: Record<string, string> = {};

/** What pieces see as `vine`, and find as `~spark`. */
export const vine = {
  /** By this, pieces know their own client. */
  get key(): string {
    return hookKey();
  },
  /** Registers a module. One that is there already stays: pieces may overlap, and updates come another way. */
  add(id: string, edges: RuntimeEdges, factory: Factory): void {
    const own = isRefused(id) ? { ...edges, imports: [], commonjs: true as const } : edges;
    if (collecting) collecting.set(id, { edges: own, factory });
    else if (!registry.has(id)) defineModule(id, { edges: own, factory });
  },
  /** Makes a module's function of its text, where the engine refuses pieces as a whole. */
  parse: parseModule,
  /** A piece says which version of it this is. */
  piece(name: string, tag: string): void {
    pieceTags[name] = tag;
    pieceRan(name);
  },
  /** Runs a module that the page itself loads. Like a module script that fails, it does not keep others from running. */
  start(id: string): void {
    entries.add(id);
    hasStarted();
    hideHolder();
    const parts = recovered();
    if (parts) void parts.then(() => runEntry(id));
    else runEntry(id);
  },
};

/** Scripts of ours in the page that hold modules. */
const holders = new WeakSet<object>();

/** To modules, `document.currentScript` is nothing, and not the script of ours that holds them (HTML, 3.1.7). */
function hideHolder(): void {
  const holder = typeof document === 'undefined' ? null : document.currentScript;
  if (!holder) return;
  holders.add(holder);
  const real = Object.getOwnPropertyDescriptor(Document.prototype, 'currentScript')?.get;
  if (!real || Object.hasOwn(document, 'currentScript')) return;
  const get = () => {
    const script = real.call(document) as object | null;
    return script && holders.has(script) ? null : script;
  };
  Object.defineProperty(document, 'currentScript', { configurable: true, enumerable: true, get });
}
