/**
 * What may stand between two words of JavaScript besides nothing, one after another: a character of white space, a comment, or a whole
 * line comment. For use in regular expressions; each text is read in one way only, so that repeating it takes no longer than the text.
 */
export const gap = String.raw`(?:\s|//[^\n\r\u2028\u2029]*(?![^\n\r\u2028\u2029])|/\*[^*]*\*+(?:[^/*][^*]*\*+)*/)`;

/** Elements of one name in markup, that are closed: what stands in their start tags, and between the tags. Takes one walk over the text. */
export function elementsIn(text: string, name: string): { attributes: string; content: string }[] {
  const found: { attributes: string; content: string }[] = [];
  const starts = new RegExp(`<${name}\\b`, 'g');
  for (let start = starts.exec(text); start; start = starts.exec(text)) {
    const open = text.indexOf('>', starts.lastIndex);
    const close = open === -1 ? -1 : text.indexOf(`</${name}>`, open);
    if (close === -1) break;
    found.push({ attributes: text.slice(starts.lastIndex, open), content: text.slice(open + 1, close) });
    starts.lastIndex = close;
  }
  return found;
}

/** A text without what stands between two marks, the marks too. */
export function without(text: string, from: string, to: string): string {
  let out = '';
  let at = 0;
  for (let start = text.indexOf(from); start !== -1; start = text.indexOf(from, at)) {
    const end = text.indexOf(to, start + from.length);
    if (end === -1) break;
    out += text.slice(at, start);
    at = end + to.length;
  }
  return out + text.slice(at);
}
