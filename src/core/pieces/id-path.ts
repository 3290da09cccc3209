/** What stands for `..` in URLs, where browsers would resolve it. */
const up = '~up';

/** The part of a URL that names a module: each segment encoded, with the steps above the project's folder kept. */
export function idToPath(id: string): string {
  return id
    .split('/')
    .map((segment) => (segment === '..' ? up : encodeURIComponent(segment)))
    .join('/');
}

/** The id that a decoded path from `idToPath` stands for. */
export function pathToId(path: string): string {
  return path
    .split('/')
    .map((segment) => (segment === up ? '..' : segment))
    .join('/');
}
