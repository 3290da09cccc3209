import type { SheetChange } from '../../core/live/messages.js';

/** The attribute by which links of ours are known, with the sheet's id. */
const mark = 'data-vine-style';

/** Puts new versions of style sheets in the places of the old ones, which stay until the new ones are there: nothing flashes. */
export async function swapSheets(changes: readonly SheetChange[]): Promise<void> {
  await Promise.all(changes.map(swapSheet));
}

async function swapSheet({ id, url }: SheetChange): Promise<void> {
  const links = linksOf(id);
  await Promise.all(
    links.map(async (link) => {
      if (link.getAttribute('href') === url) return;
      const fresh = link.cloneNode() as HTMLLinkElement;
      fresh.href = url;
      link.after(fresh);
      link.removeAttribute(mark);
      await settled(fresh);
      link.remove();
    }),
  );
}

/** Adds the sheet of a module unless the page has it; settles when it applies. */
export async function ensureSheet(id: string, url: string): Promise<void> {
  if (linksOf(id).length > 0) return;
  const link = document.createElement('link');
  link.rel = 'stylesheet';
  link.href = url;
  link.setAttribute(mark, id);
  document.head.append(link);
  await settled(link);
}

/** Takes the sheet of a module away. */
export function removeSheet(id: string): void {
  for (const link of linksOf(id)) link.remove();
}

/** Every sheet of the page with its version, for comparing with the server's. */
export function sheetVersions(): Record<string, string> {
  const versions: Record<string, string> = {};
  for (const link of document.querySelectorAll<HTMLLinkElement>(`link[${mark}]`))
    versions[link.getAttribute(mark)!] = link.getAttribute('href')!;
  return versions;
}

function linksOf(id: string): HTMLLinkElement[] {
  return [...document.querySelectorAll<HTMLLinkElement>(`link[${mark}]`)].filter((link) => link.getAttribute(mark) === id);
}

/** A sheet that fails to load counts too: the page must not wait for it. */
function settled(link: HTMLLinkElement): Promise<void> {
  return new Promise((resolve) => {
    link.onload = link.onerror = () => resolve();
  });
}
