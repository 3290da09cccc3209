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

/** Levenshtein distance, one row at a time. */
function editDistance(a: string, b: string): number {
  let row = Array.from({ length: b.length + 1 }, (_, index) => index);
  for (let i = 1; i <= a.length; i++) {
    const next = [i];
    for (let j = 1; j <= b.length; j++) {
      const substituted = row[j - 1]! + (a[i - 1] === b[j - 1] ? 0 : 1);
      next.push(Math.min(row[j]! + 1, next[j - 1]! + 1, substituted));
    }
    row = next;
  }
  return row[b.length]!;
}
