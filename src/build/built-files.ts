import { createHash } from 'node:crypto';
import { basename } from 'node:path';
import { contentHash } from '../core/text/content-hash.js';
import { CompressedSizes } from './compressed-sizes.js';

/** The folder of everything whose name changes with its content. */
export const assetFolder = 'assets';

/** A text whose map may be made when the text is known already. */
export interface LaterMapped {
  text: string;
  map?: string | (() => string);
}

/** The files of a build by their paths in the output folder. */
export class BuiltFiles {
  readonly all = new Map<string, string | Buffer>();
  readonly compressed = new CompressedSizes(this.all);
  readonly #namesMaps: boolean;
  readonly #integrity = new Map<string, string>();

  /** `namesMaps`: files say where their maps are. */
  constructor({ namesMaps }: { namesMaps: boolean }) {
    this.#namesMaps = namesMaps;
  }

  /** Puts a text under a name with its hash, and its map beside it. Returns its path. */
  put(name: string, extension: '.js' | '.css' | '.txt', { text: given, map: givenMap }: LaterMapped): string {
    // A host may send a sheet without saying in which encoding, and the page may say nothing either.
    const needsCharset = extension === '.css' && /[^\u0000-\u007f]/.test(given);
    const text = needsCharset ? `@charset "utf-8";\n${given}` : given;
    const map = needsCharset && givenMap !== undefined ? movedDown(made(givenMap)) : givenMap;
    const path = `${assetFolder}/${name}-${contentHash(text).slice(0, 10)}${extension}`;
    this.putAt(path, { text, ...(map === undefined ? {} : { map }) });
    return path;
  }

  /** The same at a path that is known already. */
  putAt(path: string, { text, map }: LaterMapped): void {
    const name = `sourceMappingURL=${basename(path)}.map`;
    const comment = path.endsWith('.css') ? `\n/*# ${name} */\n` : `//# ${name}\n`;
    this.all.set(path, map !== undefined && this.#namesMaps ? `${text}${comment}` : text);
    if (isMeasured(path)) this.compressed.begin(path);
    if (map !== undefined) this.all.set(`${path}.map`, made(map));
  }

  /** What `integrity` says of a file (Subresource Integrity, 3.1). */
  integrityOf(path: string): string {
    const known = this.#integrity.get(path);
    if (known !== undefined) return known;
    const value = `sha384-${createHash('sha384').update(this.all.get(path)!).digest('base64')}`;
    this.#integrity.set(path, value);
    return value;
  }
}

/** Whether the list of a build says how large a file is when compressed. */
export function isMeasured(path: string): boolean {
  return /\.(?:js|css)$/.test(path) && path.startsWith(`${assetFolder}/`);
}

function made(map: string | (() => string)): string {
  return typeof map === 'string' ? map : map();
}

/** The map of a text that a line was put in front of. */
export function movedDown(map: string): string {
  const parsed = JSON.parse(map) as { mappings: string };
  return JSON.stringify({ ...parsed, mappings: `;${parsed.mappings}` });
}
