/**
 * A part of a text on its own lines and columns: everything around it is spaces. So whatever works on it names the places of
 * the whole text.
 */
export function blanked(text: string, start: number, end: number): string {
  return text.slice(0, start).replace(/[^\r\n\u2028\u2029]/g, ' ') + text.slice(start, end);
}
