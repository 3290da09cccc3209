import { availableParallelism } from 'node:os';
import { type MinifyOptions, minify } from 'oxc-minify';
import type { KeptNames } from '../core/bundle/member.js';
import { visibleNamesIn } from '../core/bundle/visible-names.js';
import { type OpenMap, type Origin, through } from '../core/maps/origin.js';
import { chainMaps, type RawMap } from '../core/maps/raw-map.js';
import { readMappings, segmentWidth } from '../core/maps/segments.js';
import { survivesElsewhere } from '../project/read/trial.js';
import { withBrackets } from './bare-keys.js';
import type { Mapped, MappedText } from './mapped.js';
import type { Edition, OldTranslator } from './targets.js';
import { topLevelNames, withoutExports } from './top-level.js';

export interface SmallerOptions {
  /** Names that programs may see; found in the text where they aren't given. */
  names?: KeptNames | undefined;
  /** Those names stay, and those of classes. */
  keepsNames: boolean;
  /** Edition of ECMAScript that the text may be written in, 2015 or later. */
  edition: Edition;
  /** It has a top-level `await`, which only modules have. What it declares at its top is used from elsewhere all the same. */
  isAsync?: boolean;
  /** It runs in strict mode, though nothing in it says so. */
  isStrict?: boolean;
}

const strict = '"use strict";';

/** What was translated is plain JavaScript. */
const plain = { types: false, elements: false };

/**
 * Makes a classic script smaller, in threads of the minifier's own. `origin` is what it came from. Settles with `undefined` where the
 * minifier can't take it, e.g. for its depth.
 */
export async function smallerScript(
  text: string,
  origin: Origin | undefined,
  options: SmallerOptions,
): Promise<MappedText | undefined> {
  const { isAsync = false, isStrict = false, keepsNames } = options;
  if (!(await survivesElsewhere({ work: isAsync ? 'smaller module' : 'smaller', lang: 'js' }, text, plain))) return undefined;
  const kept = keepsNames ? (options.names ?? (await visibleNamesIn(text))) : undefined;
  // A module's top-level names are nobody's but for those that it exports.
  const foot = isAsync ? `\n;export {${topLevelNames(text).join()}};` : '';
  const head = isStrict ? `${strict}\n` : '';
  const made = await inTurn(() => minify('script.js', head + text + foot, optionsFor(kept, options, origin !== undefined)));
  if (made.errors.length > 0) return undefined;
  const cut = isStrict && made.code.startsWith(strict) ? strict.length : 0;
  const smaller: MappedText = { text: made.code.slice(cut) };
  if (origin) smaller.map = ownMap(made.map!, origin, isStrict ? 1 : 0, cut);
  const whole = await withBrackets(smaller, isAsync);
  return whole && isAsync ? withoutExports(whole) : whole;
}

/** What the minifier says of its result, led on. So many lines stood in front of the text, and so many characters are cut off. */
function ownMap({ names, mappings }: { names: string[]; mappings: string }, origin: Origin, lines: number, cut: number): OpenMap {
  const segments = readMappings(mappings);
  for (let at = 0; at < segments.length; at += segmentWidth) {
    segments[at + 3]! -= lines;
    if (segments[at] === 0) segments[at + 1] = Math.max(0, segments[at + 1]! - cut);
  }
  return through(segments, names, origin);
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
  const kept = keepsNames ? await visibleNamesIn(text) : undefined;
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
