/**
 * A JSON text of the user's as a value. A byte order mark, which some editors write, is none of it (RFC 8259, 8.1).
 *
 * @throws SyntaxError where it's no JSON.
 */
export function parseJson(text: string): unknown {
  return JSON.parse(withoutMark(text));
}

/** A text without a byte order mark at its start. */
export function withoutMark(text: string): string {
  return text.startsWith('\uFEFF') ? text.slice(1) : text;
}
