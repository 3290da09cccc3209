import { join } from 'node:path';
import { filesNamed } from '../../core/documents/read-page.js';
import type { Problem } from '../../core/problem/problem.js';
import { decoded } from '../../core/urls.js';
import { kindOnDisk } from '../../project/files/disk-files.js';
import { namedInVain } from '../../project/pages/named-in-vain.js';
import type { Page } from '../../project/pages/page.js';
import { fileUrl } from '../../project/pages/rewrite-page.js';
import type { Project } from '../../project/project.js';

/** Tells of files that pages name and that nobody has: no folder, no module, no backend. */
export class MissingFiles {
  readonly #told = new Set<string>();

  /** The place in a page that names what was just asked for in vain; `undefined` where none does or it was told before. */
  placeOf(project: Project, path: string): Problem | undefined {
    for (const page of project.pages.values()) {
      const named = filesNamed(page.parts).find(({ specifier }) => pathOf(specifier, page, project.options.base) === path);
      if (!named) continue;
      const { specifier } = named;
      const key = `${page.id} ${page.version} ${specifier}`;
      if (this.#told.has(key)) continue;
      this.#told.add(key);
      const { base, root } = project.options;
      const inside = path.startsWith(base) ? decoded(path.slice(base.length)) : undefined;
      return namedInVain(page, specifier, inside !== undefined && kindOnDisk(join(root, inside)) === 'file');
    }
    return undefined;
  }
}

/** Where a browser looks for what a page names. */
function pathOf(specifier: string, page: Page, base: string): string | undefined {
  const url = fileUrl(specifier, page, base);
  const at = new URL(page.parts.baseHref ?? base, 'http://page/');
  try {
    const { origin, pathname } = new URL(url, at);
    return origin === 'http://page' ? pathname : undefined;
  } catch {
    return undefined; // not even a browser knows where that is
  }
}
