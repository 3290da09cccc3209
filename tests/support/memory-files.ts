import { dirname } from 'node:path';
import type { Files } from '../../src/core/files.js';

/** Files of a test, by absolute path. `links` maps paths to what they really are. */
export function memoryFiles(files: Record<string, string>, links: Record<string, string> = {}): Files {
  const folders = new Set<string>();
  for (const path of Object.keys(files)) for (let at = dirname(path); at !== '/'; at = dirname(at)) folders.add(at);
  const real = (path: string): string => {
    const link = Object.keys(links).find((from) => path === from || path.startsWith(`${from}/`));
    return link ? links[link] + path.slice(link.length) : path;
  };
  return {
    kindOf: (path) => (real(path) in files ? 'file' : folders.has(real(path)) ? 'folder' : undefined),
    readText: (path) => files[real(path)],
    realPath: real,
    list: (folder) => [
      ...new Set(
        Object.keys(files)
          .filter((path) => path.startsWith(`${folder}/`))
          .map((path) => path.slice(folder.length + 1).split('/')[0]!),
      ),
    ],
  };
}
