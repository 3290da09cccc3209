import { type Targets, transform } from 'lightningcss';
import { type MinifyOptions, minify } from 'terser';
import type { Mapped } from './mapped.js';

export type SheetTargets = Targets;

const options = {
  ecma: 2020,
  // A second pass takes twice as long and saves a thousandth.
  compress: { passes: 1 },
  keep_fnames: true,
  keep_classnames: true,
  // Licences stand in a file of their own.
  format: { comments: false },
} satisfies MinifyOptions;

/**
 * Makes a classic script smaller. Names that programs can see, those of functions and classes, stay. A script on which the minifier
 * fails, e.g. for its depth, is only stripped of what means nothing, or stays as it is. `reserved` are names of variables that stay too.
 */
export async function smallerScript({ text, map }: Mapped, reserved: readonly string[] = []): Promise<Mapped> {
  const sourceMap = map === undefined ? {} : { sourceMap: { content: map, includeSources: true, asObject: false } };
  for (const compress of [options.compress, false] as const) {
    try {
      const { code, map: chained } = await minify(text, {
        ...options,
        mangle: { reserved: [...reserved] },
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

/** Makes a style sheet smaller, and lowers what `targets` don't understand. */
export function smallerSheet(
  id: string,
  { text, map }: Mapped,
  { minify: isSmaller, targets }: { minify: boolean; targets: Targets | undefined },
): Mapped {
  const made = transform({
    filename: id,
    code: Buffer.from(text),
    minify: isSmaller,
    errorRecovery: true,
    ...(targets ? { targets } : {}),
    ...(map === undefined ? {} : { sourceMap: true, inputSourceMap: map }),
  });
  return { text: made.code.toString(), ...(made.map ? { map: made.map.toString() } : {}) };
}
