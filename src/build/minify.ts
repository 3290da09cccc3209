import { type MinifyOptions, minify } from 'terser';
import type { KeptNames } from '../core/bundle/member.js';
import { visibleNamesIn } from '../core/bundle/visible-names.js';
import type { Mapped } from './mapped.js';
import type { Edition } from './targets.js';

const options = {
  // Licences stand in a file of their own.
  format: { comments: false },
} satisfies MinifyOptions;

export interface SmallerOptions {
  /** Names that programs may see; found in the text where they aren't given. */
  names?: KeptNames | undefined;
  /** Those names stay, and those of classes. */
  keepsNames: boolean;
  /** Edition of ECMAScript that the text may be written in. */
  edition: Edition;
}

/**
 * Makes a classic script smaller. A script on which the minifier fails, e.g. for its depth, is only stripped of what means nothing, or
 * stays as it is.
 */
export async function smallerScript({ text, map }: Mapped, { names, keepsNames, edition }: SmallerOptions): Promise<Mapped> {
  const sourceMap = map === undefined ? {} : { sourceMap: { content: map, includeSources: true, asObject: false } };
  const kept = keepsNames ? (names ?? visibleNamesIn(text)) : undefined;
  const naming = {
    keep_classnames: keepsNames,
    ...(kept ? { keep_fnames: oneOf(kept.functions), mangle: { reserved: [...kept.values] } } : {}),
  };
  // A second pass takes twice as long and saves a thousandth. The other two put functions in the place of the variables that give them
  // their names, for a thousandth too.
  const usual = { passes: 1, ...(kept ? { reduce_vars: false, collapse_vars: false } : {}) };
  for (const compress of [usual, false] as const) {
    try {
      const { code, map: chained } = await minify(text, {
        ...options,
        ...naming,
        ecma: edition > 2020 ? 2020 : edition,
        compress,
        ...sourceMap,
      });
      return { text: code ?? '', ...(map === undefined ? {} : { map: String(chained) }) };
    } catch (error) {
      if (!(error instanceof Error)) throw error;
    }
  }
  return { text, ...(map === undefined ? {} : { map }) };
}

function oneOf(names: readonly string[]): RegExp {
  const escaped = [...new Set(names)].map((name) => name.replace(/\$/g, '\\$'));
  return escaped.length === 0 ? /^(?!)/ : new RegExp(`^(?:${escaped.join('|')})$`);
}
