import { ownPrefix } from '../../core/urls.js';
import { everywhere, isInTemplate } from './trees.js';

/** URLs of our sheets, in style elements that the page's author wrote. */
const url = new RegExp(`[^"'()\\s]*/${ownPrefix}style/([^"'()\\s?]+)\\?v=[^"'()\\s]+`, 'g');

/** Style elements of the page itself that import sheets of ours. */
function importing(all: readonly HTMLStyleElement[]): HTMLStyleElement[] {
  return all.filter(({ textContent }) => textContent?.includes(`/${ownPrefix}style/`));
}

const own = 'style:not([data-spark-style])';

/** Sheets that style elements of the document itself import whole and under no conditions, by id, with their URLs. */
export function importedByPage(): Record<string, string> {
  const all = [...document.querySelectorAll<HTMLStyleElement>(own)].filter(({ media }) => /^\s*(?:all\s*)?$/i.test(media));
  return importedBy(all, (rest) => /^["')\s]*(?:;|$)/.test(rest));
}

/** The same, with those in other trees than the document. */
export function importedEverywhere(): Record<string, string> {
  return importedBy(everywhere<HTMLStyleElement>(own));
}

function importedBy(all: readonly HTMLStyleElement[], counts = (_rest: string) => true): Record<string, string> {
  const found = importing(all).flatMap(({ textContent }) => {
    const text = textContent ?? '';
    return [...text.matchAll(url)].filter(({ 0: whole, index }) => counts(text.slice(index + whole.length)));
  });
  return Object.fromEntries(found.map(([whole, id]) => [decodeURI(id!), whole]));
}

/** Lets the page's own style elements import a sheet by its new URL. What they showed stays until the new one is there. */
export async function importAnew(id: string, fresh: string): Promise<boolean> {
  const named = importing(everywhere<HTMLStyleElement>(own)).filter(({ textContent }) =>
    [...(textContent ?? '').matchAll(url)].some(([whole, of]) => decodeURI(of!) === id && whole !== fresh),
  );
  await Promise.all(
    named.map(async (element) => {
      const copy = element.cloneNode(true) as HTMLStyleElement;
      copy.textContent = (element.textContent ?? '').replace(url, (whole, of: string) => (decodeURI(of) === id ? fresh : whole));
      const loaded = new Promise((resolve) => {
        copy.onload = resolve;
        copy.onerror = resolve;
      });
      element.after(copy);
      if (!isInTemplate(element)) await loaded;
      element.remove();
    }),
  );
  return named.length > 0;
}
