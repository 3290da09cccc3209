import { ownUrl } from '../../core/urls.js';
import { frontEndBase, ours } from './base-path.js';

let key = '';
let revision = 0;
/** How often each piece has run, by name. */
const runs = new Map<string, number>();

/** The key by which pieces know their own client. */
export function hookKey(): string {
  return key;
}

/** Another run of the server has another key. */
export function setHookKey(fresh: string): void {
  key = fresh;
}

/** The page holds everything up to this update. */
export function setRevision(update: number): void {
  revision = update;
}

/** Changes whenever a piece may: with it in its URL, one out of the browser's history is never taken for the newest. */
export function pieceVersion(): string {
  return `${key.slice(0, 8)}-${revision}`;
}

/** A piece runs. */
export function pieceRan(name: string): void {
  runs.set(name, (runs.get(name) ?? 0) + 1);
}

/** How often a piece has run. One that was loaded and didn't run knows another key, or can't be parsed. */
export function runsOf(name: string): number {
  return runs.get(name) ?? 0;
}

/** Asks the server for its key. Returns whether that is news. */
export async function refreshKey(): Promise<boolean> {
  const response = await fetch(new URL(ours(ownUrl.plain(frontEndBase(), 'session')), location.origin), { cache: 'no-store' });
  const { hook } = (await response.json()) as { hook: string };
  const isNews = hook !== key;
  key = hook;
  return isNews;
}
