import { join } from 'node:path';
import { PackageFiles } from '../core/resolve/package-json.js';
import { decoded, ownPrefix } from '../core/urls.js';
import { DiskFiles, statNow } from '../project/files/disk-files.js';
import { FileGate } from '../project/files/file-gate.js';
import { looksLikeFile, type PageRoute, PageRoutes } from './pages/page-routes.js';

export interface WhoAnswersOptions {
  routes: readonly PageRoute[];
  /** Folders, absolute, that are served as they are. */
  verbatim: readonly string[];
  root: string;
  base: string;
}

/** What the front end has at a path, as the server looks for it; `undefined` for nothing. */
export function whoAnswers(
  { routes, verbatim, root, base }: WhoAnswersOptions,
  path: string,
  method: string,
): string | undefined {
  if (path.startsWith(base + ownPrefix)) return 'Vine Spark itself';
  if ((method !== 'GET' && method !== 'HEAD') || !path.startsWith(base)) return undefined;
  const inside = `/${path.slice(base.length)}`;
  const pages = new PageRoutes(routes);
  const exact = pages.at(inside);
  if (exact !== undefined) return `the page ${exact}`;
  const gate = new FileGate({ root, packages: new PackageFiles(new DiskFiles()) });
  const name = decoded(inside) ?? inside;
  const inVerbatim = verbatim.map((folder) => gate.ofVerbatim(folder, name)).find((found) => found !== undefined);
  const file = inVerbatim ?? gate.ofProject(join(root, name));
  if (file !== undefined && statNow(file)?.isFile()) return `the file ${file}`;
  const covering = looksLikeFile(inside) ? undefined : pages.covering(inside);
  return covering === undefined ? undefined : `the page ${covering}, for browsers that ask for HTML`;
}
