import { decode, type SourceMapSegment } from '@jridgewell/sourcemap-codec';
import { type Token, tokenizer, tokTypes } from 'acorn';
import { lineStarts } from '../../src/core/text/line-index.js';

/** How the identifiers and keywords of a generated text are mapped. */
export interface MapCheck {
  /** Mapped at their very column, to the same word. */
  exact: number;
  /** Mapped at their column to what they were made of, e.g. the object of an enum to a member. */
  replaced: string[];
  /** Without a mapping, though the source holds them between the places of their neighbours. */
  missing: string[];
}

const word = /[\p{ID_Start}$_][\p{ID_Continue}$\u200C\u200D]*/uy;

/**
 * Looks up every identifier and keyword of `generated`, from `bodyLine` (counted from 0) on. Words that the source does
 * not hold there were made by tools and have no place in it.
 */
export function checkMap({
  source,
  generated,
  mappings,
  bodyLine,
}: {
  source: string;
  generated: string;
  mappings: string;
  bodyLine: number;
}): MapCheck {
  const lines = decode(mappings);
  const sourceLines = source.split(/\r\n|[\n\r\u2028\u2029]/);
  const known = new Set(source.match(/[\p{ID_Start}$_][\p{ID_Continue}$]*/gu));
  const starts = lineStarts(source);
  const offsetOf = (segment: SourceMapSegment | undefined) =>
    segment && segment.length > 1 ? starts[segment[2]!]! + segment[3]! : undefined;
  const result: MapCheck = { exact: 0, replaced: [], missing: [] };
  for (const token of wordsOf(generated)) {
    const line = token.loc!.start.line - 1 - bodyLine;
    const { column } = token.loc!.start;
    const text = generated.slice(token.start, token.end);
    if (line < 0 || !known.has(text)) continue;
    const segments = lines[line] ?? [];
    const place = segments.findIndex((candidate) => candidate[0] >= column);
    const segment = segments[place];
    const shown = `${text} at ${line + 1}:${column}`;
    if (segment?.[0] === column) {
      const to = wordAt(sourceLines, segment);
      if (to === text) result.exact++;
      else result.replaced.push(`${shown} -> ${to}`);
      continue;
    }
    const from = offsetOf(place === -1 ? segments.at(-1) : segments[place - 1]);
    const until = offsetOf(place === -1 ? lines.slice(line + 1).find((later) => later.length > 0)?.[0] : segment);
    const gap = from === undefined || until === undefined ? '' : source.slice(from, until);
    if (
      withoutComments(gap)
        .match(/[\p{ID_Start}$_][\p{ID_Continue}$]*/gu)
        ?.slice(1)
        .includes(text)
    )
      result.missing.push(shown);
  }
  return result;
}

function withoutComments(text: string): string {
  return text.replace(/\/\*[\s\S]*?\*\/|\/\/[^\n]*/g, '');
}

function wordAt(lines: readonly string[], segment: SourceMapSegment): string {
  if (segment.length === 1) return '';
  word.lastIndex = segment[3];
  return word.exec(lines[segment[2]] ?? '')?.[0] ?? lines[segment[2]]?.[segment[3]] ?? '';
}

function* wordsOf(text: string): Generator<Token> {
  for (const token of tokenizer(text, { ecmaVersion: 'latest', sourceType: 'module', locations: true, allowHashBang: true })) {
    if (token.type === tokTypes.name || token.type.keyword !== undefined) yield token;
  }
}
