import { createWriteStream, existsSync, mkdirSync, readdirSync, readFileSync, renameSync, rmSync, statSync } from 'node:fs';
import { join } from 'node:path';
import { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { batches, type TextParts } from '../core/batches.js';
import { contentHash } from './content-hash.js';
import { areCostly, areStill, type Inputs } from './inputs.js';

/** What a page needs of the style sheets that its modules import. */
export interface PageSheets {
  /** Links for the end of the head. */
  imported: string;
  /** URLs of the sheets that the page links itself, by id. */
  urls: Record<string, string>;
}

/** A piece as a file. */
export interface KeptPiece {
  name: string;
  tag: string;
  /** Absolute path. */
  path: string;
  bytes: number;
}

/** What pages were answered. */
export interface StartAnswers {
  pages: Record<string, PageSheets>;
  pieces: { name: string; tag: string; parts: TextParts }[];
  /** Texts of sheets by id and version. */
  sheets: Record<string, string>;
}

interface KeptFile {
  fingerprint: string;
  inputs: Inputs;
  pages: Record<string, PageSheets>;
  pieces: (Omit<KeptPiece, 'path'> & { file: string })[];
}

/** Starts that are kept, e.g. with different pages. */
const keptStarts = 4;
const listName = 'start.json';
const sheetsName = 'sheets.json';

/**
 * What the last start of a project answered to its pages. While everything that went into it is as it was, the next start
 * can answer the same before it has read a single module.
 */
export class LastStart {
  readonly #folder: string;
  readonly #kept: KeptFile;
  #sheets: Record<string, string> | undefined;

  private constructor(folder: string, kept: KeptFile) {
    this.#folder = folder;
    this.#kept = kept;
  }

  /** What holds still of the last start with this fingerprint; `undefined` where there is none, or something has changed. */
  static find(cacheFolder: string, fingerprint: string): LastStart | undefined {
    const folder = folderOf(cacheFolder, fingerprint);
    try {
      if (!existsSync(join(folder, listName))) return undefined;
      const kept = JSON.parse(readFileSync(join(folder, listName), 'utf8')) as KeptFile;
      const isWhole = kept.pieces.every(({ file, bytes }) => statSync(join(folder, file)).size === bytes);
      const isValid = kept.fingerprint === fingerprint && isWhole && areStill(kept.inputs);
      return isValid ? new LastStart(folder, kept) : undefined;
    } catch {
      return undefined; // cut off or made by something else: this start makes everything and keeps it anew
    }
  }

  /** Whether keeping it anew would make the next start quicker. */
  get isCostly(): boolean {
    return areCostly(this.#kept.inputs);
  }

  page(id: string): PageSheets | undefined {
    return this.#kept.pages[id];
  }

  /** Absent too where another server of the project has put newer ones in their place. */
  piece(name: string): KeptPiece | undefined {
    const piece = this.#kept.pieces.find((kept) => kept.name === name);
    if (!piece) return undefined;
    const path = join(this.#folder, piece.file);
    return existsSync(path) ? { ...piece, path } : undefined;
  }

  /** The text of a sheet in a version. */
  sheet(id: string, version: string): string | undefined {
    try {
      this.#sheets ??= JSON.parse(readFileSync(join(this.#folder, sheetsName), 'utf8')) as Record<string, string>;
    } catch {
      this.#sheets = {}; // it comes from the build, when that is there
    }
    return this.#sheets[`${id}?${version}`];
  }
}

/** Keeps what a start answered. Does nothing where it can't be written: that only costs the next start time. */
export async function keepStart(
  cacheFolder: string,
  fingerprint: string,
  inputs: Inputs,
  { pages, pieces, sheets }: StartAnswers,
): Promise<void> {
  const folder = folderOf(cacheFolder, fingerprint);
  try {
    mkdirSync(folder, { recursive: true });
    const written: KeptFile['pieces'] = [];
    for (const { name, tag, parts } of pieces) {
      const file = `${contentHash(name)}-${tag}.js`;
      const path = join(folder, file);
      if (!existsSync(path)) await writeWhole(path, parts);
      written.push({ name, tag, file, bytes: statSync(path).size });
    }
    await writeWhole(join(folder, sheetsName), [JSON.stringify(sheets)]);
    await writeWhole(join(folder, listName), [
      JSON.stringify({ fingerprint, inputs, pages, pieces: written } satisfies KeptFile),
    ]);
    const inUse = new Set([...written.map(({ file }) => file), sheetsName, listName]);
    for (const name of readdirSync(folder)) if (!inUse.has(name)) rmSync(join(folder, name), { force: true });
    dropOldStarts(cacheFolder);
  } catch {
    rmSync(join(folder, listName), { force: true }); // the disk is full, or the folder went away
  }
}

function folderOf(cacheFolder: string, fingerprint: string): string {
  return join(cacheFolder, `start-${contentHash(fingerprint)}`);
}

/** Writes under another name first, so that nobody ever reads half a file. */
async function writeWhole(path: string, parts: TextParts): Promise<void> {
  const temporary = `${path}.${process.pid}`;
  await pipeline(Readable.from(batches(parts)), createWriteStream(temporary));
  renameSync(temporary, path);
}

function dropOldStarts(cacheFolder: string): void {
  const starts = readdirSync(cacheFolder)
    .filter((name) => name.startsWith('start-'))
    .map((name) => ({ path: join(cacheFolder, name), at: statSync(join(cacheFolder, name)).mtimeMs }))
    .sort((a, b) => b.at - a.at);
  for (const { path } of starts.slice(keptStarts)) rmSync(path, { recursive: true, force: true });
}
