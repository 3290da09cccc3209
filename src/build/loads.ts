import type { Manifest, ManifestPage } from './manifest.js';

/** What pages and entries load, by the names of both. */
export function loadsOf({ pages, entries }: Pick<Manifest, 'pages' | 'entries'>): Record<string, ManifestPage> {
  return { ...pages, ...entries };
}

/** HTML for pages of a backend, by what they start. */
export function entryTags({ entries = {} }: Pick<Manifest, 'entries'>): Record<string, ManifestPage['tags']> {
  return Object.fromEntries(Object.entries(entries).map(([id, { tags }]) => [id, tags]));
}
