import { cpSync, mkdirSync, mkdtempSync, realpathSync, rmSync, symlinkSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';

/** The repository's folder. */
export const repository = fileURLToPath(new URL('../..', import.meta.url));

/** A temporary folder with files of a test. */
export class Workspace {
  readonly root = realpathSync(mkdtempSync(join(tmpdir(), 'vine-spark-')));

  /** Makes a folder with these files; `packages` links the repository's node_modules, for React. */
  static with(files: Record<string, string | Buffer>, { packages = false } = {}): Workspace {
    const workspace = new Workspace();
    workspace.write({ 'package.json': '{ "name": "quay" }', ...files });
    if (packages) symlinkSync(join(repository, 'node_modules'), join(workspace.root, 'node_modules'));
    return workspace;
  }

  /** A copy of the demo application. */
  static demo(): Workspace {
    const workspace = new Workspace();
    cpSync(join(repository, 'demo'), workspace.root, { recursive: true });
    symlinkSync(join(repository, 'node_modules'), join(workspace.root, 'node_modules'));
    return workspace;
  }

  write(files: Record<string, string | Buffer>): void {
    for (const [path, content] of Object.entries(files)) {
      const file = join(this.root, path);
      mkdirSync(dirname(file), { recursive: true });
      writeFileSync(file, content);
    }
  }

  /** Links some of the repository's packages beside those of the workspace itself. */
  linkPackages(names: readonly string[]): void {
    mkdirSync(this.path('node_modules'), { recursive: true });
    for (const name of names) symlinkSync(join(repository, 'node_modules', name), this.path(`node_modules/${name}`));
  }

  path(file: string): string {
    return join(this.root, file);
  }

  delete(file: string): void {
    rmSync(join(this.root, file), { recursive: true });
  }

  dispose(): void {
    rmSync(this.root, { recursive: true, force: true });
  }
}
