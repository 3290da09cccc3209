import { promisify } from 'node:util';
import { brotliCompress, constants, gzip } from 'node:zlib';
import type { OutputFiles } from './output-folder.js';

const compressed = { gzip: promisify(gzip), brotli: promisify(brotliCompress) };
/** The highest two take ten times as long, for a twentieth. */
const brotliOptions = { params: { [constants.BROTLI_PARAM_QUALITY]: 9 } };

/** How large files are when compressed, in bytes. That is worked out in threads, while the build goes on. */
export class CompressedSizes {
  readonly #files: OutputFiles;
  readonly #gzip = new Map<string, Promise<number>>();
  readonly #brotli = new Map<string, Promise<number>>();

  constructor(files: OutputFiles) {
    this.#files = files;
  }

  /** Begins with a file that is there, and won't change any more. What the list of the build says comes first. */
  begin(path: string): void {
    void this.gzip(path).then(() => this.brotli(path));
  }

  gzip(path: string): Promise<number> {
    return this.#size(path, this.#gzip, (content) => compressed.gzip(content));
  }

  brotli(path: string): Promise<number> {
    return this.#size(path, this.#brotli, (content) => compressed.brotli(content, brotliOptions));
  }

  #size(path: string, sizes: Map<string, Promise<number>>, compress: (content: string | Buffer) => Promise<Buffer>) {
    const size = sizes.get(path) ?? compress(this.#files.get(path)!).then(({ length }) => length);
    sizes.set(path, size);
    return size;
  }
}
