import { availableParallelism } from 'node:os';
import { type MinifyOptions, minify } from 'oxc-minify';
import type { KeptNames } from '../core/bundle/member.js';
import { visibleNamesIn } from '../core/bundle/visible-names.js';
import { chainMaps } from '../core/maps/chain-maps.js';
import type { RawMap } from '../core/translate/translate-script.js';
import { survivesElsewhere } from '../project/read/trial.js';
import type { Mapped } from './mapped.js';
import type { Edition, OldTranslator } from './targets.js';
import { topLevelNames } from './top-level.js';

export interface SmallerOptions {
  /** Names that programs may see; found in the text where they aren't given. */
  names?: KeptNames | undefined;
  /** Those names stay, and those of classes. */
  keepsNames: boolean;
  /** Edition of ECMAScript that the text may be written in, 2015 or later. */
  edition: Edition;
  /** It has a top-level `await`, which only modules have. What it declares at its top is used from elsewhere all the same. */
  isAsync?: boolean;
}

/**
 * Makes a classic script smaller, in threads of the minifier's own. A script that it can't take, e.g. for its depth, stays as it is.
 */
export async function smallerScript(mapped: Mapped, options: SmallerOptions): Promise<Mapped> {
  const { text, map } = mapped;
  const { isAsync = false, keepsNames } = options;
  if (!(await survivesElsewhere('smaller', 'script.js', text))) return mapped;
  const kept = keepsNames ? (options.names ?? visibleNamesIn(text)) : undefined;
  // A module's top-level names are nobody's but for those that it exports.
  const whole = isAsync ? `${text}\n;export {${topLevelNames(text).join()}};` : text;
  const made = await inTurn(() => minify('script.js', whole, optionsFor(kept, options, map !== undefined)));
  if (made.errors.length > 0) return mapped;
  const code = isAsync ? made.code.replace(/export\s*\{[^{}]*\};?\s*$/, '') : made.code;
  if (map === undefined) return { text: code };
  return { text: code, map: JSON.stringify(chainMaps(made.map as RawMap, JSON.parse(map) as RawMap)) };
}

function optionsFor(kept: KeptNames | undefined, { edition, isAsync = false }: SmallerOptions, hasMap: boolean): MinifyOptions {
  const all = { function: kept !== undefined, class: kept !== undefined };
  return {
    module: isAsync,
    compress: { target: `es${edition}`, keepNames: all },
    mangle: {
      toplevel: false,
      // Of functions, only those keep their names that somebody can ask for it.
      keepNames: { function: false, class: all.class },
      reserved: kept ? [...new Set([...kept.functions, ...kept.values])] : [],
    },
    // Licences stand in a file of their own.
    codegen: { legalComments: 'none' },
    sourcemap: hasMap,
  };
}

/** So many scripts are with the minifier at a time: more would only wait there, with all they need. */
const atATime = availableParallelism() + 1;
let running = 0;
const waiting: (() => void)[] = [];

async function inTurn<Result>(work: () => Promise<Result>): Promise<Result> {
  if (running >= atATime) await new Promise<void>((resolve) => waiting.push(resolve));
  running++;
  try {
    return await work();
  } finally {
    running--;
    waiting.shift()?.();
  }
}

/** The same for a script in ECMAScript 5, by the translator that the project has for it. */
export async function smallerOldScript(
  translator: OldTranslator,
  { text, map }: Mapped,
  { keepsNames }: { keepsNames: boolean },
): Promise<Mapped> {
  const kept = keepsNames ? visibleNamesIn(text) : undefined;
  const { code, map: own } = await translator.minify(text, {
    ecma: 5,
    module: false,
    compress: { ecma: 5, keep_fnames: keepsNames, keep_classnames: keepsNames, passes: 1 },
    mangle: { topLevel: false, reserved: kept ? [...new Set([...kept.functions, ...kept.values])] : [] },
    format: { comments: false },
    sourceMap: map !== undefined,
  });
  if (map === undefined) return { text: code };
  return { text: code, map: JSON.stringify(chainMaps(JSON.parse(own!) as RawMap, JSON.parse(map) as RawMap)) };
}
