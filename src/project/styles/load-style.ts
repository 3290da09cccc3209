import { fileURLToPath, pathToFileURL } from 'node:url';
import type { StyleReference } from '../../core/documents/read-style.js';
import { kindOfFile } from '../../core/file-kinds.js';
import type { Loaded } from '../../core/graph/module-content.js';
import type { Edge } from '../../core/graph/module-graph.js';
import { linkStyle } from '../../core/link/link-data.js';
import type { Paths } from '../../core/paths.js';
import { type Problem, problemAt } from '../../core/problem/problem.js';
import { explainFailure } from '../../core/resolve/explain-failure.js';
import type { Resolution } from '../../core/resolve/resolution.js';
import type { Resolver } from '../../core/resolve/resolver.js';
import { withoutMark } from '../../core/text/json.js';
import type { CompiledStyle } from './compiled-style.js';
import { olderPackage, type StyleCompiler, type StylePart } from './style-compiler.js';

export interface StyleLoaderOptions extends StylePart {
  paths: Paths;
  resolver: Resolver;
  compiler: StyleCompiler;
  /** Told what the user should know of a sheet, though it's made. */
  onWarning(id: string, warning: Problem): void;
}

/** Takes a style sheet from its source to CSS with resolved references. */
export async function loadStyle(
  id: string,
  written: string,
  { paths, resolver, compiler, onWarning, ...part }: StyleLoaderOptions,
): Promise<Loaded> {
  // Places are counted without it.
  const source = withoutMark(written);
  const file = paths.fileOf(id);
  const compiled = await compiler.compile(id, file, source, part);
  // The mistake may be in another file, which mends it.
  if ('code' in compiled) return { problems: [compiled], dependencies: [compiled.file ?? id] };
  const { css, map, exports, composed } = compiled;
  const { readStyle } = await import('../../core/documents/read-style.js');
  const read = readStyle(css, id);
  if (!('references' in read)) return { problems: [read] };
  const { references } = read;
  const placeOf = (reference: StyleReference) => ({ file: id, text: source, ...spanIn(source, css, reference) });
  // Nobody here can mend a package's.
  for (const ignored of id.includes('node_modules/') ? [] : read.ignored)
    onWarning(id, problemAt(placeOf(ignored), { code: 'import-ignored', ...whereImportsCount(ignored) }));
  const problems: Problem[] = [];
  const edges: Edge[] = [];
  const targets: (string | undefined)[] = [];
  let partialOf: ((reference: StyleReference) => string | undefined) | undefined;
  for (const reference of references) {
    const first = resolveReference(reference, file, resolver);
    let resolution = first;
    if (isLost(first)) {
      partialOf ??= await partialsOf(compiled, file);
      resolution = fromPartial(reference, partialOf(reference), resolver) ?? first;
    }
    if ('found' in resolution) {
      const target = paths.idOf(resolution.found);
      if (reference.kind === 'sheet' && kindOfFile(target) === 'script')
        problems.push(problemAt(placeOf(reference), isScript(reference.specifier, target)));
      edges.push({ kind: 'style', specifier: reference.specifier, target });
      targets.push(target);
      continue;
    }
    targets.push(undefined);
    // A missing image leaves a gap in the page; a missing sheet leaves it bare.
    if ('failure' in resolution && (reference.kind === 'sheet' || resolution.failure.reason === 'refused'))
      problems.push(problemAt(placeOf(reference), explainFailure(resolution.failure, reference.specifier, paths.root)));
    if ('failure' in resolution && reference.kind === 'file' && resolution.failure.reason === 'file-missing') {
      const { message, hint } = explainFailure(resolution.failure, reference.specifier, paths.root);
      // One from the root may be a backend's.
      if (!reference.specifier.startsWith('/'))
        onWarning(id, problemAt(placeOf(reference), { code: 'file-missing', message, ...(hint ? { hint } : {}) }));
    }
  }
  // Classes that are composed must be on the page before those that build on them.
  for (const specifier of composed) {
    const resolution = resolveReference({ kind: 'sheet', specifier }, file, resolver);
    if ('found' in resolution) edges.push({ kind: 'import', specifier, target: paths.idOf(resolution.found) });
  }
  if (problems.length > 0) return { problems };
  const dependencies = compiled.dependencies.map((path) => paths.idOf(path));
  const content = {
    kind: 'style',
    source,
    css,
    references,
    targets,
    dependencies,
    folders: compiled.folders,
    linked: linkStyle(exports),
    ...(map ? { map } : {}),
    ...(exports ? { names: exports } : {}),
  } as const;
  return { content, edges };
}

function isLost(resolution: Resolution): boolean {
  return 'failure' in resolution && resolution.failure.reason === 'file-missing';
}

/**
 * What a reference means beside the partial that holds it. Sass leaves its words as they are, and they count from the sheet; but partials of
 * packages, with fonts beside them, are often written as if they stood for themselves.
 */
function fromPartial(reference: StyleReference, partial: string | undefined, resolver: Resolver): Resolution | undefined {
  if (partial === undefined || reference.specifier.startsWith('/')) return undefined;
  const resolution = resolveReference(reference, partial, resolver);
  return 'found' in resolution ? resolution : undefined;
}

/** Tells the partial (absolute path) that a reference of a sheet stands in. */
async function partialsOf(
  { css, map, dependencies }: CompiledStyle,
  file: string,
): Promise<(reference: StyleReference) => string | undefined> {
  if (!map || dependencies.length === 0) return () => undefined;
  const { sourcesOf } = await import('../../core/translate/source-position.js');
  const sourceAt = sourcesOf(map, css);
  const partials = new Set(dependencies);
  const base = pathToFileURL(file).href;
  return ({ start }) => {
    const source = sourceAt(start);
    const url = source === undefined || !URL.canParse(source, base) ? undefined : new URL(source, base);
    const partial = url?.protocol === 'file:' ? fileURLToPath(url) : undefined;
    return partial !== undefined && partials.has(partial) ? partial : undefined;
  };
}

/** Where something in a sheet's CSS stands in its source: exactly where nothing moved it, else where the source first says the same. */
function spanIn(source: string, css: string, { start, end }: StyleReference): { start: number; end: number } {
  const written = css.slice(start, end);
  const around = css.slice(Math.max(0, start - 1), end + 1);
  const at = source.slice(0, end) === css.slice(0, end) ? start : source.indexOf(around) + (start > 0 ? 1 : 0);
  if (source.startsWith(written, at)) return { start: at, end: at + written.length };
  const first = source.indexOf(written);
  return first === -1 ? { start: 0, end: 0 } : { start: first, end: first + written.length };
}

function isScript(specifier: string, target: string): Pick<Problem, 'code' | 'message' | 'hint'> {
  return {
    code: 'import-unresolved',
    message: `'${specifier}' leads to ${target}, which is a script: a sheet can only import sheets.`,
    hint: 'Import it from a script, or name a sheet by its path.',
  };
}

function whereImportsCount({ specifier }: StyleReference): Pick<Problem, 'message' | 'hint'> {
  return {
    message: `Browsers ignore the @import of '${specifier}', since other rules stand before or around it.`,
    hint: 'Put it before all rules. Only @charset and @layer statements may come first, the latter not between two @imports.',
  };
}

/**
 * In a sheet, a name without `./` is a path first; then what the project maps it to, or of a package. An older notation of sheets puts a
 * `~` in front of the names of packages.
 */
export function resolveReference(
  { kind, specifier }: Pick<StyleReference, 'kind' | 'specifier'>,
  file: string,
  resolver: Resolver,
): Resolution {
  const isPath = /^[./]/.test(specifier);
  const first = resolver.resolve(isPath ? specifier : `./${specifier}`, file, 'style');
  const isRefused = 'failure' in first && first.failure.reason === 'refused';
  if (isPath || isRefused || 'found' in first) return first;
  const mapped = resolver.resolve(specifier, file, 'style');
  if (!('found' in mapped) && olderPackage.test(specifier)) return resolver.resolve(specifier.slice(1), file, 'style');
  // What `url()` names is meant to be a path, so that's what is told of it.
  return kind === 'file' && !('found' in mapped) ? first : mapped;
}
