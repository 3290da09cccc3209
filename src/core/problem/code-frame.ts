import type { Position } from '../text/line-index.js';

/** One line of a code frame. `mark` is the part to point at, as 0-based columns of `text`. */
export interface CodeFrameLine {
  line: number;
  text: string;
  mark?: { from: number; to: number };
}

const linesBefore = 2;
const linesAfter = 1;
const widest = 160;

/** The lines around `position`, with `width` columns marked. Long lines are cut around the mark. */
export function codeFrame(text: string, starts: readonly number[], position: Position, width: number): CodeFrameLine[] {
  const frame: CodeFrameLine[] = [];
  const first = Math.max(1, position.line - linesBefore);
  // What follows the last line end is no line, unless it's the place itself.
  const lines = starts.at(-1) === text.length ? starts.length - 1 : starts.length;
  const last = Math.max(position.line, Math.min(lines, position.line + linesAfter));
  const cutAt = position.column > widest - 40 ? position.column - 60 : 0;
  for (let line = first; line <= last; line++) {
    const whole = text.slice(starts[line - 1], starts[line] ?? text.length).replace(/[\r\n\u2028\u2029]+$/, '');
    const shown = whole.slice(cutAt, cutAt + widest).replaceAll('\t', ' ');
    if (line !== position.line) {
      frame.push({ line, text: shown });
      continue;
    }
    const from = position.column - cutAt;
    frame.push({ line, text: shown, mark: { from, to: Math.max(from + 1, Math.min(from + width, shown.length)) } });
  }
  return frame;
}

/**
 * The frame as plain text, a gutter with line numbers before each line and carets under the mark. Where it may be only so many columns
 * wide, lines are cut around the mark, so that the carets stay under it.
 */
export function formatCodeFrame(frame: readonly CodeFrameLine[], columns = Number.POSITIVE_INFINITY): string {
  const gutter = String(frame.at(-1)?.line ?? 0).length;
  const room = Math.max(20, columns - gutter - ' │ '.length);
  const at = frame.find(({ mark }) => mark)?.mark?.from ?? 0;
  const cut = at < room - 8 ? 0 : at - Math.floor(room / 2);
  const rows: string[] = [];
  for (const { line, text, mark } of frame) {
    const before = cut > 0 && mark ? `…${text.slice(cut + 1)}` : text;
    const shown = before.length > room ? `${before.slice(0, room - 1)}…` : before;
    rows.push(`${String(line).padStart(gutter)} │ ${shown}`);
    if (!mark) continue;
    const from = mark.from - cut;
    const to = Math.max(from + 1, Math.min(mark.to - cut, room));
    rows.push(`${' '.repeat(gutter)} │ ${' '.repeat(from)}${'^'.repeat(to - from)}`);
  }
  return rows.join('\n');
}
