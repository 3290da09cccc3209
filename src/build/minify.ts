import { transform } from 'lightningcss';
import { type MinifyOptions, minify } from 'terser';
import type { Mapped } from './mapped.js';

const options = {
  ecma: 2020,
  // A second pass takes twice as long and saves a thousandth.
  compress: { passes: 1 },
  keep_fnames: true,
  keep_classnames: true,
  // Licences stay where they are.
  format: { comments: 'some' },
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

/** Makes a style sheet smaller. */
export function smallerSheet(id: string, text: string): string {
  return transform({ filename: id, code: Buffer.from(text), minify: true, errorRecovery: true }).code.toString();
}
