import type { RuntimeEdges } from '../../core/pieces/runtime-edges.js';
import { ownUrl, pieceName, pieceNameOf } from '../../core/urls.js';
import { frontEndBase, ours } from './base-path.js';
import { pieceVersion, refreshKey, runsOf } from './hook.js';
import { loadScript } from './load-script.js';
import { type Definition, defineModule, registry } from './records.js';

/** Pieces on their way, by URL, so that two imports of one module load it once. */
const loading = new Map<string, Promise<void>>();

/** What updates brought while pieces were on their way, which may bring older versions of it. */
const newest = new Map<string, Definition>();
const newestSheets = new Map<string, Sheet>();

/** What the edges of a module that is a sheet say of it. */
export type Sheet = Required<Pick<RuntimeEdges, 'style' | 'css'>>;

/** Notes a definition that came with an update: nothing that was asked for before takes its place. */
export function noteNewest(id: string, definition: Definition): void {
  if (loading.size > 0) newest.set(id, definition);
}

/** The same for a sheet that is another one, though its module is the same. */
export function noteNewestSheet(id: string, sheet: Sheet): void {
  if (loading.size > 0) newestSheets.set(id, sheet);
  const edges = registry.get(id)?.definition.edges;
  if (edges?.style !== undefined) Object.assign(edges, sheet);
}

function restoreNewest(): void {
  for (const [id, definition] of newest) {
    const known = registry.get(id)?.definition.edges.version;
    if (known !== undefined && known !== definition.edges.version) defineModule(id, definition);
  }
  for (const [id, sheet] of newestSheets) noteNewestSheet(id, sheet);
}

/** URLs of the pieces that were asked for beside those in the page. */
export const loadedPieces = new Set<string>();

/** Loads a piece as a script. Rejects where the server can't give it; a later call tries again. */
export function loadPiece(url: string): Promise<void> {
  const known = loading.get(url);
  if (known) return known;
  const promise = loadWith(url)
    .then(() => {
      loadedPieces.add(url);
      restoreNewest();
    })
    .finally(() => {
      // What it brought may be forgotten again and asked for anew.
      loading.delete(url);
      if (loading.size > 0) return;
      newest.clear();
      newestSheets.clear();
    });
  loading.set(url, promise);
  return promise;
}

/** How pieces are loaded: from the dev server, where nobody says otherwise. */
let loadWith: (url: string) => Promise<void> = loadAndRun;

/** Whether a piece's module is there, and all that came with it. */
let isThere = (id: string): boolean => registry.has(id);

/** Lets pieces be loaded in another way. `isLoaded` says of a module's id whether all of its files are there. */
export function setPieceLoader(loader: typeof loadWith, isLoaded: typeof isThere): void {
  loadWith = loader;
  isThere = isLoaded;
}

/** Loads the piece behind an `import()`, unless it is there. */
export async function loadTarget({ id, piece }: { id: string; piece: string }): Promise<void> {
  if (!isThere(id)) await loadPiece(piece);
}

/** Loads a piece and sees to it that it runs: right after a restart, the server's pieces know a key that isn't ours yet. */
async function loadAndRun(url: string): Promise<void> {
  const name = pieceNameOf(url, frontEndBase()) ?? url;
  const before = runsOf(name);
  const place = ours(url);
  // A worker has nothing of what pages have from the start.
  const query = () => `v=${pieceVersion()}${typeof document === 'undefined' ? '&whole=1' : ''}`;
  await loadScript(`${place}?${query()}`);
  if (runsOf(name) === before && (await refreshKey())) await loadScript(`${place}?${query()}`);
  // The engine refuses it as a whole, perhaps because of one module.
  if (runsOf(name) === before) await loadScript(`${place}?${query()}&apart=1`);
  if (runsOf(name) === before) throw new TypeError(`Failed to run dynamically imported module: ${url}`);
}

/**
 * Loads what is missing of the modules that some others statically need. An update brings what is new to the server;
 * what another page made it load before may still be new to this one.
 */
export async function completeBelow(ids: Iterable<string>): Promise<void> {
  const asked = new Set<string>();
  for (;;) {
    const missing = missingBelow(ids).filter((id) => !asked.has(id));
    if (missing.length === 0) return;
    for (const id of missing) asked.add(id);
    await Promise.all(missing.map((id) => loadPiece(lazyPieceUrl(id))));
  }
}

function missingBelow(ids: Iterable<string>): string[] {
  const missing: string[] = [];
  const seen = new Set(ids);
  for (const id of seen) {
    const edges = registry.get(id)?.definition.edges;
    if (!edges) missing.push(id);
    else
      for (const target of [...edges.imports, ...(edges.links ?? []), ...Object.values(edges.requires ?? {})]) seen.add(target);
  }
  return missing;
}

function lazyPieceUrl(id: string): string {
  return ownUrl.piece(frontEndBase(), pieceName.lazy(id));
}
