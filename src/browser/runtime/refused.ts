import { pieceNameOf } from '../../core/urls.js';
import { frontEndBase } from './base-path.js';
import { runsOf } from './hook.js';
import { loadScript } from './load-script.js';
import type { Factory } from './records.js';

/** Modules that this engine can't parse, with what it said. */
export const refusedModules: { id: string; error: unknown }[] = [];
let onRefused: (id: string, error: unknown) => void = () => {};

/** Pieces that are being loaded anew; what they start has to wait. */
let recovering: Promise<unknown> | undefined;

/** Settles when every piece that the engine refused as a whole has been loaded in parts; `undefined` where none was. */
export function recovered(): Promise<unknown> | undefined {
  return recovering;
}

/** Makes a module's function of its text. One that the engine refuses becomes a module without exports, and is told. */
export function parseModule(id: string, code: string): Factory {
  try {
    // biome-ignore lint/security/noGlobalEval: the server of this page sends its own modules
    const run = globalThis.eval;
    return run(`(${code}\n)`) as Factory;
  } catch (error) {
    refusedModules.push({ id, error });
    onRefused(id, error);
    return (() => {}) as unknown as Factory;
  }
}

/** Whether the engine refused a module. */
export function isRefused(id: string): boolean {
  return refusedModules.some((refused) => refused.id === id);
}

/**
 * Sees to it that a script of the page which the engine refuses as a whole, because of one module in it, is loaded in parts.
 * `tell` is told which modules were refused then.
 */
export function watchRefusedPieces(tell: (id: string, error: unknown) => void): void {
  onRefused = tell;
  addEventListener('error', (event) => {
    const { error, filename } = event as ErrorEvent;
    const name = filename ? pieceNameOf(filename, frontEndBase()) : undefined;
    // A piece says that it runs before it runs anything: a later error is one of its modules'.
    if (name === undefined || !(error instanceof SyntaxError) || runsOf(name) > 0 || !/^page\//.test(name)) return;
    event.stopImmediatePropagation();
    event.preventDefault();
    const before = recovering;
    recovering = loadScript(`${filename}&apart=1`).then(() => before);
  });
}
