import { join, relative, sep } from 'node:path';
import { intern } from './text/intern.js';

/** Between absolute paths and ids: paths relative to the project's folder with `/`, which also are the URLs of sources. */
export class Paths {
  readonly root: string;
  readonly #inside: string;

  constructor(root: string) {
    this.root = root;
    this.#inside = root.endsWith(sep) ? root : root + sep;
  }

  idOf(file: string): string {
    const path = file.startsWith(this.#inside) ? file.slice(this.#inside.length) : relative(this.root, file);
    return intern(sep === '/' ? path : path.split(sep).join('/'));
  }

  fileOf(id: string): string {
    return id.startsWith('.') || sep !== '/' ? join(this.root, id) : this.#inside + id;
  }
}
