import { shownText } from '../../core/text/shown-text.js';

/** A time for people. */
export function duration(ms: number): string {
  return ms < 1000 ? `${Math.round(ms)} ms` : `${(ms / 1000).toFixed(1)} s`;
}

/** Names, as far as there is room for them. */
export function shortList(names: readonly string[]): string {
  const unique = [...new Set(names)].map(shownText);
  return unique.length <= 3 ? unique.join(', ') : `${unique.slice(0, 2).join(', ')} and ${unique.length - 2} more`;
}
