/**
 * The path of a request-target as rules see it: without query, with escapes of ordinary characters undone, dot segments
 * removed and slashes single, so that no spelling slips past a rule. An escaped slash stays: it separates nothing.
 */
export function normalPath(target: string): string {
  if (isPlain(target)) return target.replace(/[?#].*$/, '');
  const path = target.replace(/^[a-z][a-z0-9+.-]*:\/\/[^/?#]*/i, '').replace(/[?#].*$/, '');
  return withoutDots(path.replace(/%([\da-f]{2})/gi, (whole, hex: string) => plainCharacter(whole, hex)));
}

/** The same with everything decoded, slashes too, as some backends read it. */
export function decodedPath(target: string): string {
  if (isPlain(target)) return normalPath(target);
  const path = normalPath(target);
  return withoutDots(path.replace(/%2f/gi, '/').replace(/%5c/gi, '/').replaceAll('\\', '/'));
}

/**
 * Whether dot segments of a request-target lead out of a folder that it had entered, e.g. `/api/../api/x` out of `/api`: once a
 * rule has changed the path's beginning, that would be somewhere else.
 */
export function leaves(target: string, folder: string): boolean {
  if (isPlain(target)) return false;
  const path = target.replace(/^[a-z][a-z0-9+.-]*:\/\/[^/?#]*/i, '').replace(/[?#].*$/, '');
  const written = path
    .replace(/%2e/gi, '.')
    .replace(/%2f|%5c/gi, '/')
    .replaceAll('\\', '/');
  const at: string[] = [];
  let hasEntered = false;
  for (const segment of written.split('/')) {
    if (segment === '..') at.pop();
    else if (segment !== '.' && segment !== '') at.push(segment);
    const isInside = `/${at.join('/')}/`.startsWith(folder.endsWith('/') ? folder : `${folder}/`);
    if (hasEntered && !isInside) return true;
    hasEntered ||= isInside;
  }
  return false;
}

/** Most paths need no work at all. */
export function isPlain(target: string): boolean {
  return target.startsWith('/') && !/[%\\]|\/[./]/.test(target);
}

function plainCharacter(whole: string, hex: string): string {
  const character = String.fromCharCode(Number.parseInt(hex, 16));
  return /[\w.~!$&'()*+,;=:@-]/.test(character) ? character : whole.toUpperCase();
}

/** Removes dot segments (RFC 3986, 5.2.4) and empty ones. */
function withoutDots(path: string): string {
  const out: string[] = [];
  const segments = path.split('/');
  for (const segment of segments) {
    if (segment === '..') out.pop();
    else if (segment !== '.' && segment !== '') out.push(segment);
  }
  const isFolder = /^\.{0,2}$/.test(segments.at(-1)!) && out.length > 0;
  return `/${out.join('/')}${isFolder ? '/' : ''}`;
}
