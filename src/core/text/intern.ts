const known = new Map<string, string>();

/**
 * One string for all that are equal. Parts of long texts keep the whole text in memory, so what is kept of a module beside
 * its code must be a text of its own.
 */
export function intern(text: string): string {
  const found = known.get(text);
  if (found !== undefined) return found;
  const own = Buffer.from(text, 'utf16le').toString('utf16le');
  known.set(own, own);
  return own;
}
