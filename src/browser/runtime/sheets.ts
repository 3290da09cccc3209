import type { SheetChange } from '../../core/live/messages.js';
import { entries, registry } from './records.js';

/** The attribute by which links of ours are known, with the sheet's id. */
const mark = 'data-spark-style';
/** Marks links that stand in the page's own HTML, where they stay. */
const fixed = 'data-spark-fixed';
/** Marks links whose sheet the server could not give, e.g. because of a problem in the build. They are tried again. */
const failed = 'data-spark-failed';

/** Puts new versions of style sheets in the places of the old ones, which stay until the new ones are there: nothing flashes. Returns which. */
export async function swapSheets(changes: readonly SheetChange[]): Promise<string[]> {
  const swapped = await Promise.all(changes.map(async (change) => ((await swapSheet(change)) ? [change.id] : [])));
  return swapped.flat();
}

/** Returns whether there was something to replace. */
async function swapSheet({ id, url }: SheetChange): Promise<boolean> {
  const links = linksOf(id).filter((link) => link.getAttribute('href') !== url || link.hasAttribute(failed));
  await Promise.all(
    links.map(async (link) => {
      const fresh = copyOf(link);
      fresh.href = url;
      link.after(fresh);
      link.removeAttribute(mark);
      await settled(fresh);
      link.remove();
    }),
  );
  return links.length > 0;
}

/** Modules that dynamic imports asked for. */
const lateRoots = new Set<string>();

/** Notes that a module was asked for by `import()`. */
export function noteRoot(id: string): void {
  lateRoots.add(id);
}

/** Whether a module was asked for by `import()`. */
export function isLateRoot(id: string): boolean {
  return lateRoots.has(id);
}

/** Adds the sheets that modules need and the page doesn't have, each where a fresh load would put it; settles when they apply. */
export async function ensureSheetsBelow(ids: readonly string[]): Promise<void> {
  if (typeof document === 'undefined') return;
  const there = new Set(Object.keys(sheetVersions()));
  const missing = evaluationOrder(ids).filter((id) => styleOf(id) !== undefined && !there.has(id));
  if (missing.length === 0) return;
  const order = moduleOrder();
  await Promise.all(missing.map((id) => addSheet(id, order)));
}

/** Whether some sheet could not be loaded. */
export function hasFailedSheets(): boolean {
  return document.querySelector(`link[${failed}]`) !== null;
}

/**
 * Brings the sheets that modules import into the order of a fresh load, and takes away those that it would not have. A
 * moved sheet is loaded again, so the old ones stay until all of them are there.
 */
export async function arrangeSheets(): Promise<void> {
  if (typeof document === 'undefined') return;
  const wanted = moduleOrder().filter((id) => styleOf(id) !== undefined);
  const importedLinks = () => [...document.querySelectorAll<HTMLLinkElement>(`link[${mark}]:not([${fixed}])`)];
  const needed = new Set(wanted);
  for (const link of importedLinks()) if (!needed.has(link.getAttribute(mark)!) || link.hasAttribute(failed)) link.remove();
  await ensureSheetsBelow(wanted);
  const kept = importedLinks();
  const byId = new Map(kept.map((link) => [link.getAttribute(mark)!, link]));
  const inOrder = wanted.flatMap((id) => byId.get(id) ?? []);
  const from = inOrder.findIndex((link, place) => link !== kept[place]);
  if (from === -1) return;
  const moved = inOrder.slice(from);
  const fresh = moved.map(copyOf);
  for (const link of moved) link.removeAttribute(mark);
  document.head.append(...fresh);
  await Promise.all(fresh.map(settled));
  for (const link of moved) link.remove();
}

/**
 * The page's modules in the order in which a fresh load gets them. What `import()` asked for comes after everything
 * static, in the order in which it stands in the modules and not in that of arrival, which is another one each time.
 */
function moduleOrder(): string[] {
  const seen = new Set<string>();
  const order = evaluationOrder([...entries], seen);
  // Grows while it's walked.
  for (const id of order) {
    const dynamic = Object.values(registry.get(id)?.definition.edges.dynamic ?? {});
    for (const { id: target } of dynamic) if (lateRoots.has(target)) order.push(...evaluationOrder([target], seen));
  }
  return order;
}

function styleOf(id: string): string | undefined {
  return registry.get(id)?.definition.edges.style;
}

function addSheet(id: string, order: readonly string[]): Promise<void> {
  const link = document.createElement('link');
  link.rel = 'stylesheet';
  link.href = styleOf(id)!;
  link.setAttribute(mark, id);
  const there = new Set(Object.keys(sheetVersions()));
  const later = order.slice(order.indexOf(id) + 1).find((other) => there.has(other));
  if (later !== undefined) linksOf(later)[0]!.before(link);
  else document.head.append(link);
  return settled(link);
}

/** Modules below some others in the order in which they would run. */
function evaluationOrder(ids: readonly string[], seen = new Set<string>()): string[] {
  const order: string[] = [];
  const stack: { id: string; targets: string[] }[] = [];
  const enter = (id: string) => {
    const edges = registry.get(id)?.definition.edges;
    if (!edges || seen.has(id)) return;
    seen.add(id);
    stack.push({ id, targets: [...edges.imports, ...Object.values(edges.requires ?? {})] });
  };
  for (const id of ids) {
    enter(id);
    for (let top = stack.at(-1); top; top = stack.at(-1)) {
      const target = top.targets.shift();
      if (target !== undefined) enter(target);
      else order.push(stack.pop()!.id);
    }
  }
  return order;
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
  return [...document.querySelectorAll<HTMLLinkElement>(`link[${mark}="${CSS.escape(id)}"]`)];
}

function copyOf(link: HTMLLinkElement): HTMLLinkElement {
  const copy = link.cloneNode() as HTMLLinkElement;
  copy.removeAttribute(failed);
  return copy;
}

/** A sheet that fails to load counts too: the page must not wait for it. */
function settled(link: HTMLLinkElement): Promise<void> {
  return new Promise((resolve) => {
    link.onload = () => resolve();
    link.onerror = () => {
      link.setAttribute(failed, '');
      resolve();
    };
  });
}
