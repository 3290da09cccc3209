import { join, relative, sep } from 'node:path';

/** Between absolute paths and ids: paths relative to the project's folder with `/`, which also are the URLs of sources. */
export class Paths {
  readonly root: string;

  constructor(root: string) {
    this.root = root;
  }

  idOf(file: string): string {
    const path = relative(this.root, file);
    return sep === '/' ? path : path.split(sep).join('/');
  }

  fileOf(id: string): string {
    return join(this.root, id);
  }
}
