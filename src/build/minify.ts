import { transform } from 'lightningcss';
import { minify } from 'terser';

/** A text and the map that leads from it to where it came from, as JSON. */
export interface Mapped {
  text: string;
  map?: string;
}

/** Makes a classic script smaller. Names that programs can see, those of functions and classes, stay. */
export async function smallerScript({ text, map }: Mapped): Promise<Mapped> {
  const { code, map: chained } = await minify(text, {
    ecma: 2020,
    compress: { passes: 2 },
    mangle: true,
    keep_fnames: true,
    keep_classnames: true,
    // Licences stay where they are.
    format: { comments: 'some' },
    ...(map === undefined ? {} : { sourceMap: { content: map, includeSources: true, asObject: false } }),
  });
  return { text: code ?? '', ...(map === undefined ? {} : { map: String(chained) }) };
}

/** Makes a style sheet smaller. */
export function smallerSheet(id: string, { text, map }: Mapped): Mapped {
  const { code, map: made } = transform({
    filename: id,
    code: Buffer.from(text),
    minify: true,
    errorRecovery: true,
    ...(map === undefined ? {} : { sourceMap: true, inputSourceMap: map }),
  });
  return { text: code.toString(), ...(map === undefined || !made ? {} : { map: made.toString() }) };
}
