import type { FileChange } from '../../core/live/messages.js';
import { ownPrefix } from '../../core/urls.js';
import { ours, ownOrigin } from '../runtime/base-path.js';
import { everywhere } from '../runtime/trees.js';

/** Attributes of elements that name one file. */
const attributes = ['src', 'href', 'poster', 'data', 'xlink:href'];

/**
 * Lets every element that names a file name its new version. `loaded`: no element names it, but the page got it, e.g. by
 * `fetch` or as a script, and what it made of it is unknown. `unused`: the page never asked for it.
 */
export function replaceFile({ path, url: fresh }: FileChange): 'shown' | 'loaded' | 'unused' {
  const url = ours(fresh);
  let isShown = false;
  for (const element of everywhere('[src], [href], [poster], [data], [srcset], [style], use, image')) {
    // A script ran already, and a document in a frame has a life of its own.
    if (element instanceof HTMLScriptElement || element instanceof HTMLAnchorElement) continue;
    if (showIn(element, path, url)) isShown = true;
  }
  for (const style of everywhere<HTMLStyleElement>('style')) {
    const text = withUrl(style.textContent ?? '', path, url);
    if (text === undefined) continue;
    style.textContent = text;
    isShown = true;
  }
  if (isShown) return 'shown';
  return loadedPaths().includes(path) ? 'loaded' : 'unused';
}

/** Paths of everything that the page got from its own origin, without what is ours and what modules name by its version. */
export function loadedPaths(): string[] {
  const entries = performance.getEntriesByType('resource');
  const urls = entries
    .map(({ name }) => new URL(name, location.href))
    .filter(({ origin, searchParams }) => origin === ownOrigin() && !searchParams.has('v'));
  return [...new Set(urls.map(({ pathname }) => decodeURI(pathname)))].filter((path) => !path.includes(`/${ownPrefix}`));
}

function showIn(element: Element, path: string, url: string): boolean {
  let isShown = false;
  for (const name of attributes) {
    const value = element.getAttribute(name);
    if (value === null || !isSameFile(value, path)) continue;
    const fragment = value.includes('#') ? value.slice(value.indexOf('#')) : '';
    element.setAttribute(name, url + fragment);
    isShown = true;
  }
  const set = element.getAttribute('srcset');
  const candidates = set?.split(/,\s+/).map((candidate) => {
    const [file = '', ...rest] = candidate.trim().split(/\s+/);
    return isSameFile(file, path) ? [url, ...rest].join(' ') : candidate;
  });
  if (candidates && candidates.join(', ') !== set?.split(/,\s+/).join(', ')) {
    element.setAttribute('srcset', candidates.join(', '));
    isShown = true;
  }
  const style = element instanceof HTMLElement ? withUrl(element.getAttribute('style') ?? '', path, url) : undefined;
  if (style !== undefined) {
    element.setAttribute('style', style);
    isShown = true;
  }
  return isShown;
}

/** CSS with the file's new URL; `undefined` where it doesn't name the file. */
function withUrl(css: string, path: string, url: string): string | undefined {
  const fresh = css.replace(/url\(\s*(["']?)([^"')]+)\1\s*\)/g, (whole, quote: string, value: string) =>
    isSameFile(value, path) ? `url(${quote}${url}${quote})` : whole,
  );
  return fresh === css ? undefined : fresh;
}

function isSameFile(value: string, path: string): boolean {
  if (!URL.canParse(value, document.baseURI)) return false;
  const named = new URL(value, document.baseURI);
  return named.origin === ownOrigin() && decodeURI(named.pathname) === path;
}
