import { lineStarts, positionAt } from '../text/line-index.js';

/** Replace `start`..`end` of a text. A blanking keeps line ends, so that lines never move. */
export interface Edit {
  start: number;
  end: number;
  text: string;
}

/** From `column` on (in the text before the edits), line `line` (0-based) moved right by `by` columns. */
export interface Shift {
  line: number;
  column: number;
  by: number;
}

/** An edit that puts `;` and spaces over a statement, keeping its line ends. The `;` stops a statement before from going on. */
export function blank(text: string, start: number, end: number): Edit {
  const body = text.slice(start + 1, end);
  const blanked = /[\n\r\u2028\u2029]/.test(body) ? body.replace(/[^\n\r\u2028\u2029]/g, ' ') : ' '.repeat(body.length);
  return { start, end, text: `;${blanked}` };
}

/**
 * Applies edits that do not overlap. Replacements must hold as many line ends as what they replace. `startsOf` says where lines begin,
 * which the text's map decides.
 */
export function applyEdits(text: string, edits: Edit[], startsOf = lineStarts): { text: string; shifts: Shift[] } {
  if (edits.length === 0) return { text, shifts: [] };
  edits.sort((a, b) => a.start - b.start || a.end - b.end);
  let starts: number[] | undefined;
  const shifts: Shift[] = [];
  let out = '';
  let at = 0;
  for (const edit of edits) {
    out += text.slice(at, edit.start) + edit.text;
    at = edit.end;
    const by = edit.text.length - (edit.end - edit.start);
    if (by === 0) continue;
    starts ??= startsOf(text);
    const { line, column } = positionAt(starts, edit.end);
    shifts.push({ line: line - 1, column, by });
  }
  return { text: out + text.slice(at), shifts };
}
