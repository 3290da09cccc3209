import type { ModuleRequest } from '../../core/link/linked.js';
import { fileOfPart } from '../../core/module-id.js';
import { type CompiledScript, type MadeScript, type NotCompiled, placeIn } from './compile-script.js';

/** A script whose specifiers are looked for in what the user wrote. */
export interface PlacedScript {
  id: string;
  /** What the user wrote. */
  source: string;
  script: CompiledScript;
  /** What a compiler made of it. */
  made: MadeScript | undefined;
  /** Compiles it again, where its text wasn't kept. */
  compileAfresh(): Promise<CompiledScript | NotCompiled>;
}

/** The specifier's place in what the user wrote. */
export async function specifierPlace(
  { id, source, script, made, compileAfresh }: PlacedScript,
  { start, specifier }: ModuleRequest,
) {
  const fresh = script.text === undefined ? await compileAfresh() : script;
  const text = 'linked' in fresh ? fresh.text! : source;
  const map = 'linked' in fresh ? fresh.map : undefined;
  const place = await placeIn(fileOfPart(id), source, { text, map }, start);
  const inset = /['"`]/.test(source[place.start] ?? '') ? 1 : 0;
  const at = place.start + inset;
  // What a compiler took from elsewhere, e.g. from an attribute of a template, has no place of its own in the map.
  const found = made && !source.startsWith(specifier, at) ? source.indexOf(specifier) : -1;
  const from = found === -1 ? at : found;
  return { ...place, start: from, end: from + specifier.length };
}
