import { existsSync, mkdirSync, readdirSync, readFileSync, rmSync, statSync } from 'node:fs';
import { join } from 'node:path';
import { crc32 } from 'node:zlib';
import type { TextParts } from '../../core/text/batches.js';
import { contentHash } from '../../core/text/content-hash.js';
import { statNow } from '../files/disk-files.js';
import { areCostly, areStill, type Inputs } from './inputs.js';
import { readSealed, writeSealed, writeWhole } from './sealed-file.js';

/** What a page needs of the style sheets that its modules import. */
export interface PageSheets {
  /** The elements for the end of the head. */
  imported: string;
  /** URLs of the sheets that the page links itself, by id. */
  urls: Record<string, string>;
}

/** A piece as it was kept: what of it is the same for all pages. */
export interface KeptPiece {
  name: string;
  tag: string;
  content: Buffer;
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
  /** `sum` is the CRC-32 of the file. */
  pieces: { name: string; tag: string; file: string; bytes: number; sum: number }[];
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
  readonly #onNote: (note: string) => void;
  #sheets: Record<string, string> | undefined;

  private constructor(folder: string, kept: KeptFile, onNote: (note: string) => void) {
    this.#folder = folder;
    this.#kept = kept;
    this.#onNote = onNote;
  }

  /** What holds still of the last start with this fingerprint; `undefined` where there is none, or something has changed. */
  static find(cacheFolder: string, fingerprint: string, onNote: (note: string) => void): LastStart | undefined {
    const folder = folderOf(cacheFolder, fingerprint);
    try {
      if (!existsSync(join(folder, listName))) return undefined;
      const kept = readSealed(join(folder, listName)) as KeptFile;
      const isWhole = kept.pieces.every(({ file, bytes }) => statNow(join(folder, file))?.size === bytes);
      if (!isWhole) throw new Error('a piece is not whole');
      const isValid = kept.fingerprint === fingerprint && areStill(kept.inputs);
      return isValid ? new LastStart(folder, kept, onNote) : undefined;
    } catch (error) {
      // This start makes everything and keeps it anew.
      dropDamaged(folder);
      onNote(`the answers of the last start are not used: ${error instanceof Error ? error.message : String(error)}`);
      return undefined;
    }
  }

  /** Whether keeping it anew would make the next start quicker. */
  get isCostly(): boolean {
    return areCostly(this.#kept.inputs);
  }

  page(id: string): PageSheets | undefined {
    return Object.hasOwn(this.#kept.pages, id) ? this.#kept.pages[id] : undefined;
  }

  /** The tag of a piece. */
  tagOf(name: string): string | undefined {
    return this.#kept.pieces.find((kept) => kept.name === name)?.tag;
  }

  /** Absent too where another server of the project has put newer ones in their place, or where it is damaged. */
  piece(name: string): KeptPiece | undefined {
    const piece = this.#kept.pieces.find((kept) => kept.name === name);
    const content = piece && contentOf(join(this.#folder, piece.file));
    if (!piece || !content) return undefined;
    if (content.length === piece.bytes && crc32(content) === piece.sum) return { name, tag: piece.tag, content };
    dropDamaged(this.#folder);
    this.#onNote(`the answers of the last start are not used: ${piece.file} is damaged`);
    return undefined;
  }

  /** The text of a sheet in a version. */
  sheet(id: string, version: string): string | undefined {
    try {
      this.#sheets ??= readSealed(join(this.#folder, sheetsName)) as Record<string, string>;
    } catch {
      this.#sheets = {}; // it comes from the build, when that is there
    }
    const key = `${id}?${version}`;
    return Object.hasOwn(this.#sheets, key) ? this.#sheets[key] : undefined;
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
      written.push({ name, tag, file, ...(await writeWhole(join(folder, file), parts)) });
    }
    await writeSealed(join(folder, sheetsName), sheets);
    await writeSealed(join(folder, listName), { fingerprint, inputs, pages, pieces: written } satisfies KeptFile);
    const inUse = new Set([...written.map(({ file }) => file), sheetsName, listName]);
    for (const name of readdirSync(folder)) if (!inUse.has(name)) rmSync(join(folder, name), { force: true });
    dropOldest(cacheFolder, 'start-', keptStarts);
  } catch {
    dropDamaged(folder); // the disk is full, or the folder went away
  }
}

function folderOf(cacheFolder: string, fingerprint: string): string {
  return join(cacheFolder, `start-${contentHash(fingerprint)}`);
}

function contentOf(path: string): Buffer | undefined {
  try {
    return readFileSync(path);
  } catch {
    return undefined;
  }
}

/** Takes away what others could take for answers. */
function dropDamaged(folder: string): void {
  try {
    rmSync(join(folder, listName), { force: true });
  } catch {
    // It may not be written, and is found to be damaged again.
  }
}

/** Takes away all but the newest of the folders in a cache that begin with a name. */
export function dropOldest(cacheFolder: string, beginning: string, most: number): void {
  const starts = readdirSync(cacheFolder)
    .filter((name) => name.startsWith(beginning))
    .map((name) => ({ path: join(cacheFolder, name), at: statSync(join(cacheFolder, name)).mtimeMs }))
    .sort((a, b) => b.at - a.at);
  for (const { path } of starts.slice(most)) rmSync(path, { recursive: true, force: true });
}
