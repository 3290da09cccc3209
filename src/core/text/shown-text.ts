/** Characters that a terminal or a reader would obey instead of showing: C0, DEL, C1, line separators, and marks of direction. */
const controls =
  /[\u0000-\u001f\u007f-\u009f\u00ad\u061c\u180e\u200b\u200e\u200f\u2028-\u202e\u2060-\u2069\ufeff\ufff9-\ufffb]|[\u{e0000}-\u{e007f}]|[\ud800-\udbff](?![\udc00-\udfff])|(?<![\ud800-\udbff])[\udc00-\udfff]/gu;

/**
 * A text of somebody else's, e.g. of a page, a backend, a package or a file's name, on one line of a terminal: what isn't
 * there to be seen stands as its code point, so that nothing can be hidden, moved or made to look like ours.
 */
export function shownText(text: string): string {
  return text.replace(controls, (character) => `\\u{${character.codePointAt(0)!.toString(16)}}`);
}

/** The same with its lines, each of which the caller marks as a part of the text. Tabs are spaces. */
export function shownLines(text: string): string[] {
  return text.split(/\r\n|[\n\r\u2028\u2029]/).map((line) => shownText(line.replaceAll('\t', '  ')));
}

/** JSON in which such characters are escaped: it means the same, and is safe to look at too. */
export function shownJson(value: unknown): string {
  const escaped = (character: string) =>
    Array.from({ length: character.length }, (_, at) => `\\u${character.charCodeAt(at).toString(16).padStart(4, '0')}`).join('');
  return JSON.stringify(value).replace(controls, escaped);
}
