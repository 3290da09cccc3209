import type { AcceptedPlugin, Result } from 'postcss';
import type { RawMap } from '../../core/maps/raw-map.js';

/** A style sheet as CSS, with what it was made of. */
export interface CompiledStyle {
  css: string;
  /** The map back to the source; absent where the CSS is the source. */
  map?: RawMap;
  /** Absolute paths of other files that went into it. */
  dependencies: string[];
  /** Absolute paths of folders any of whose files may change it, e.g. because a plugin looks for class names in them. */
  folders: string[];
  /** Names of a CSS module and the classes that stand for them. */
  exports?: Record<string, string>;
  /** Specifiers of the CSS modules it takes classes from. */
  composed: string[];
}

/** What PostCSS plugins make of a style. */
export async function run(plugins: AcceptedPlugin[], file: string, style: CompiledStyle): Promise<Result> {
  const { default: postcss } = await import('postcss');
  return postcss(plugins).process(style.css, {
    from: file,
    map: { inline: false, annotation: false, sourcesContent: true, prev: false },
  });
}

/** The map of that to where the style came from. */
export async function mapOf(result: Result, { map }: CompiledStyle): Promise<RawMap> {
  const made = JSON.parse(result.map.toString()) as RawMap;
  return map ? (await import('../../core/maps/raw-map.js')).chainMaps(made, map) : made;
}
