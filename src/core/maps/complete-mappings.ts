import type { SourceMapMappings, SourceMapSegment } from '@jridgewell/sourcemap-codec';
import { lineStarts } from '../line-index.js';

/** Words that translators leave without a mapping of their own: second keywords of a statement, and what follows a comment. */
const unmapped =
  /(?<![\w$.])(?:else|of|in|instanceof|catch|extends|finally|while|function|await)(?![\w$])|(?<=\*\/ ?)[A-Za-z_$][\w$]*/g;
/** The place of a word is looked for between its mapped neighbours, if they are that close in the source. */
const farthest = 600;

/**
 * Adds mappings for words that the translator left out, where the source holds the same word once between the places of
 * the mapped neighbours. `lines` are the decoded mappings of `text`; they are changed in place.
 */
export function completeMappings(lines: SourceMapMappings, text: string, source: string): void {
  const textLines = text.split('\n');
  let starts: number[] | undefined;
  for (const [line, segments] of lines.entries()) {
    for (const { index, 0: found } of (textLines[line] ?? '').matchAll(unmapped)) {
      const at = segments.findIndex(([column]) => column >= index);
      if (segments[at]?.[0] === index) continue;
      const before = at === -1 ? segments.at(-1) : (segments[at - 1] ?? lastBefore(lines, line));
      const after = at === -1 ? firstAfter(lines, line) : segments[at];
      if (!before || !after) continue;
      starts ??= lineStarts(source);
      const place = placeBetween({ before, after, word: found, source, starts });
      if (place) segments.splice(at === -1 ? segments.length : at, 0, [index, 0, ...place]);
    }
  }
}

function lastBefore(lines: SourceMapMappings, line: number): SourceMapSegment | undefined {
  for (let at = line - 1; at >= 0; at--) if (lines[at]!.length > 0) return lines[at]!.at(-1);
  return undefined;
}

function firstAfter(lines: SourceMapMappings, line: number): SourceMapSegment | undefined {
  for (let at = line + 1; at < lines.length; at++) if (lines[at]!.length > 0) return lines[at]![0];
  return undefined;
}

interface Gap {
  before: SourceMapSegment;
  after: SourceMapSegment;
  word: string;
  source: string;
  starts: readonly number[];
}

function placeBetween({ before, after, word, source, starts }: Gap): [line: number, column: number] | undefined {
  if (before.length === 1 || after.length === 1) return undefined;
  const from = starts[before[2]]! + before[3];
  const to = starts[after[2]]! + after[3];
  if (to <= from || to - from > farthest) return undefined;
  const gap = source.slice(from, to);
  // Comments may hold the word too.
  const plain = gap.replace(/\/\*[\s\S]*?\*\/|\/\/[^\n]*/g, (comment) => comment.replace(/[^\n]/g, ' '));
  const places = [...plain.matchAll(new RegExp(`(?<![\\w$])${word.replaceAll('$', '\\$')}(?![\\w$])`, 'g'))];
  if (places.length !== 1) return undefined;
  const offset = from + places[0]!.index;
  let line = before[2];
  while ((starts[line + 1] ?? Number.POSITIVE_INFINITY) <= offset) line++;
  return [line, offset - starts[line]!];
}
