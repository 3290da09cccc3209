import { distance as editDistance } from 'fastest-levenshtein';

/** The candidate closest to `word` when it is close enough to have been meant, for "did you mean". */
export function nearMiss(word: string, candidates: Iterable<string>): string | undefined {
  let best: string | undefined;
  let bestDistance = Math.max(1, Math.floor(word.length / 3)) + 1;
  for (const candidate of candidates) {
    if (Math.abs(candidate.length - word.length) >= bestDistance) continue;
    const distance = editDistance(word.toLowerCase(), candidate.toLowerCase());
    if (distance < bestDistance) [best, bestDistance] = [candidate, distance];
  }
  return best;
}
