import type { SheetChange } from '../../core/live/messages.js';
import { isElsewhere, ours, pathOfOurs } from './base-path.js';
import { noteNewestSheet } from './load-piece.js';
import { ownNonce } from './load-script.js';
import { importAnew, importedByPage, importedEverywhere } from './page-styles.js';
import { dynamicTargets, entries, registry } from './records.js';
import { everywhere, isInTemplate } from './trees.js';

/** The attribute by which elements of ours are known, with the sheet's id. */
const mark = 'data-spark-style';
/** On style elements: the URL by which the sheet in its version is known. Links have it as their `href`. */
const urlMark = 'data-spark-url';
/** Marks links that stand in the page's own HTML, where they stay; as `apart` those that don't stand for what a module imports. */
const fixed = 'data-spark-fixed';
const notApart = `:not([${fixed}="apart"])`;
/** Marks links whose sheet the server could not give, e.g. because of a problem in the build. They are tried again. */
const failed = 'data-spark-failed';
/** On a link to several sheets in one file: their URLs by id. */
const joined = 'data-spark-sheets';

/** An element that holds one sheet: its text, or a link where the page's security policy forbids that. */
type SheetElement = HTMLStyleElement | HTMLLinkElement;

/** Puts new versions of style sheets in the places of the old ones, which stay until the new ones are there: nothing flashes. Returns which. */
export async function swapSheets(changes: readonly SheetChange[]): Promise<string[]> {
  // Taken away and added again, it's the new one too.
  for (const { id, url, css } of changes) noteNewestSheet(id, { style: url, css });
  if (changes.some(({ id }) => isJoined(id))) await separate();
  const swapped = await Promise.all(changes.map(async (change) => ((await swapSheet(change)) ? [change.id] : [])));
  return swapped.flat();
}

/** Returns whether there was something to replace. */
async function swapSheet({ id, url, css }: SheetChange): Promise<boolean> {
  const elements = everywhere<SheetElement>(markOf(id)).filter(
    (element) => urlOf(element) !== url || element.hasAttribute(failed),
  );
  await Promise.all(
    elements.map(async (element) => {
      const isText = element instanceof HTMLStyleElement;
      if (isText && (isInTemplate(element) || !loadsOthers(css))) {
        element.textContent = css;
        element.setAttribute(urlMark, url);
        return;
      }
      if (isInTemplate(element)) {
        element.setAttribute('href', ours(url));
        return;
      }
      const fresh = copyOf(element);
      if (isText) fresh.textContent = css;
      fresh.setAttribute(isText ? urlMark : 'href', isText ? url : ours(url));
      element.after(fresh);
      element.removeAttribute(mark);
      await settled(fresh);
      element.remove();
    }),
  );
  return (await importAnew(id, ours(url))) || elements.length > 0;
}

/** Whether a sheet imports others, for which it has to wait. */
function loadsOthers(css: string): boolean {
  return /@import\b/i.test(css);
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
  // In a build, those without a URL are in the page's own file.
  const missing = evaluationOrder(ids).filter((id) => styleOf(id) && !there.has(id));
  if (missing.length === 0) return;
  const order = moduleOrder();
  // What comes behind all of a file needs no place in it.
  if (missing.some((id) => isJoined(followerOf(id, order) ?? ''))) await separate();
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
  const needed = new Set(wanted);
  const isJoinedNeeded = Object.keys(joinedVersions()).every((id) => needed.has(id));
  if (!isJoinedNeeded) await separate();
  const importedElements = () => [...document.querySelectorAll<SheetElement>(`[${mark}]:not([${fixed}])`)];
  for (const element of importedElements())
    if (!needed.has(element.getAttribute(mark)!) || element.hasAttribute(failed)) element.remove();
  await ensureSheetsBelow(wanted);
  // Sheets of a file stay together as long as they come first.
  const together = Object.keys(joinedVersions());
  const linked = [...document.querySelectorAll(`[${mark}][${fixed}]${notApart}`)].map((element) => element.getAttribute(mark));
  const stays = new Set([...linked, ...Object.keys(importedByPage())]);
  const movable = together.length === 0 ? [] : wanted.filter((id) => !stays.has(id));
  if (together.some((id, place) => id !== movable[place])) await separate();
  const kept = importedElements();
  const byId = new Map(kept.map((element) => [element.getAttribute(mark)!, element]));
  const inOrder = wanted.flatMap((id) => byId.get(id) ?? []);
  const from = inOrder.findIndex((element, place) => element !== kept[place]);
  if (from === -1) return;
  const moved = inOrder.slice(from);
  const fresh = moved.map(copyOf);
  for (const element of moved) element.removeAttribute(mark);
  document.head.append(...fresh);
  await Promise.all(fresh.map(settled));
  for (const element of moved) element.remove();
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
    const edges = registry.get(id)?.definition.edges;
    for (const target of edges ? dynamicTargets(edges) : [])
      if (lateRoots.has(target)) order.push(...evaluationOrder([target], seen));
  }
  return order;
}

function styleOf(id: string): string | undefined {
  return registry.get(id)?.definition.edges.style;
}

function addSheet(id: string, order: readonly string[]): Promise<void> {
  const later = followerOf(id, order);
  const place = later === undefined ? undefined : elementsOf(later)[0];
  const put = (element: SheetElement) => {
    if (place) place.before(element);
    else document.head.append(element);
  };
  const url = styleOf(id)!;
  const css = registry.get(id)?.definition.edges.css;
  // In a page of another origin, what a sheet refers to would be looked for there.
  if (css !== undefined && mayHoldText && !isElsewhere()) {
    const element = document.createElement('style');
    element.nonce = ownNonce;
    element.setAttribute(mark, id);
    element.setAttribute(urlMark, url);
    element.textContent = css;
    put(element);
    if (element.sheet) return settled(element);
    element.remove();
    mayHoldText = false;
  }
  const link = linkTo(id, url);
  put(link);
  return settled(link);
}

/** Of the sheets that the page has, the first one that comes behind this one. */
function followerOf(id: string, order: readonly string[]): string | undefined {
  const there = new Set(Object.keys(sheetVersions()));
  return order.slice(order.indexOf(id) + 1).find((other) => there.has(other));
}

/** Whether the page's security policy allows style elements, as far as is known. */
let mayHoldText = true;

/** Sheets come as links only. */
export function linkSheetsOnly(): void {
  mayHoldText = false;
}

/** Where a policy that came with the answer forbids the page's style elements, links take their places. */
export async function replaceRefusedSheets(): Promise<void> {
  const refused = [...document.querySelectorAll<HTMLStyleElement>(`style[${mark}]`)].filter(({ sheet }) => sheet === null);
  if (refused.length === 0) return;
  mayHoldText = false;
  const links = refused.map((element) => {
    const link = linkTo(element.getAttribute(mark)!, element.getAttribute(urlMark)!);
    element.replaceWith(link);
    return link;
  });
  await Promise.all(links.map(settled));
}

/**
 * Sheets that came in one file get an element each, so that one of them can be replaced, moved, or taken away. Those of a build
 * that have no files of their own stay as they are.
 */
async function separate(): Promise<void> {
  const all = [...document.querySelectorAll<HTMLLinkElement>(`link[${joined}]`)];
  const files = all.filter((file) => Object.values(versionsIn(file)).every((url) => url !== ''));
  await Promise.all(
    files.map(async (file) => {
      const links = Object.entries(versionsIn(file)).map(([id, url]) => linkTo(id, url));
      file.removeAttribute(joined);
      file.after(...links);
      await Promise.all(links.map(settled));
      file.remove();
    }),
  );
}

function versionsIn(file: HTMLLinkElement): Record<string, string> {
  return JSON.parse(file.getAttribute(joined)!) as Record<string, string>;
}

function joinedVersions(): Record<string, string> {
  const files = [...document.querySelectorAll<HTMLLinkElement>(`link[${joined}]`)];
  return Object.assign({}, ...files.map(versionsIn)) as Record<string, string>;
}

function isJoined(id: string): boolean {
  return Object.hasOwn(joinedVersions(), id);
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
export async function removeSheet(id: string): Promise<void> {
  if (isJoined(id)) await separate();
  for (const element of elementsOf(id)) element.remove();
}

/** Every sheet of the page with its version, wherever it stands, for comparing with the server's. */
export function sheetVersionsEverywhere(): Record<string, string> {
  const marked = everywhere<SheetElement>(`[${mark}]`).map((element) => [element.getAttribute(mark)!, urlOf(element)]);
  return { ...importedEverywhere(), ...Object.fromEntries(marked), ...sheetVersions() } as Record<string, string>;
}

/** Every sheet of the document with its version, in the page's order. */
function sheetVersions(): Record<string, string> {
  const versions = importedByPage();
  for (const element of document.querySelectorAll<SheetElement>(`[${mark}]${notApart}, link[${joined}]`)) {
    if (element.hasAttribute(mark)) versions[element.getAttribute(mark)!] = urlOf(element);
    else Object.assign(versions, versionsIn(element as HTMLLinkElement));
  }
  return versions;
}

function elementsOf(id: string): SheetElement[] {
  return [...document.querySelectorAll<SheetElement>(markOf(id) + notApart)];
}

function markOf(id: string): string {
  return `[${mark}="${CSS.escape(id)}"]`;
}

function urlOf(element: SheetElement): string {
  return element instanceof HTMLStyleElement ? element.getAttribute(urlMark)! : pathOfOurs(element.getAttribute('href')!);
}

function linkTo(id: string, url: string): HTMLLinkElement {
  const link = document.createElement('link');
  link.nonce = ownNonce;
  link.rel = 'stylesheet';
  link.href = ours(url);
  link.setAttribute(mark, id);
  return link;
}

function copyOf(element: SheetElement): SheetElement {
  const copy = element.cloneNode(true) as SheetElement;
  copy.removeAttribute(failed);
  return copy;
}

/** A sheet that fails to load counts too: the page must not wait for it. */
function settled(element: SheetElement): Promise<void> {
  if (element instanceof HTMLStyleElement && !loadsOthers(element.textContent ?? '')) return Promise.resolve();
  return new Promise((resolve) => {
    element.onload = () => resolve();
    element.onerror = () => {
      element.setAttribute(failed, '');
      resolve();
    };
  });
}
