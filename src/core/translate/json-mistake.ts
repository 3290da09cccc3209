import { parseJson } from '../text/json.js';

/** Where a text stops being JSON, and what is wrong there. */
export interface JsonMistake {
  at: number;
  why: string;
}

const string = /"(?:[^"\\\u0000-\u001f]|\\(?:["\\/bfnrt]|u[0-9a-fA-F]{4}))*"/y;
const scalar = /-?(?:0|[1-9]\d*)(?:\.\d+)?(?:[eE][+-]?\d+)?(?![\w.])|(?:true|false|null)(?!\w)/y;

/** The first mistake in a JSON text (RFC 8259); `undefined` where there is none. Engines don't all say where it is. */
export function findJsonMistake(text: string): JsonMistake | undefined {
  try {
    parseJson(text);
    return undefined;
  } catch {
    return mistakeIn(text);
  }
}

function mistakeIn(text: string): JsonMistake {
  /** What may come: a value, a key, something behind a value or a key; and the brackets that are open. */
  let wanted: 'value' | 'first value' | 'key' | 'first key' | 'colon' | 'more' = 'value';
  const open: string[] = [];
  let at = text.startsWith('\uFEFF') ? 1 : 0;
  const take = (pattern: RegExp) => {
    pattern.lastIndex = at;
    if (!pattern.test(text)) return false;
    at = pattern.lastIndex;
    return true;
  };
  for (;;) {
    while (at < text.length && ' \t\n\r'.includes(text[at]!)) at++;
    const next = text[at];
    const ends = next === '}' || next === ']';
    if (wanted === 'more' && open.length === 0)
      return next === undefined ? { at, why: 'it ends too early' } : { at, why: 'something stands behind its end' };
    if (next === undefined)
      return { at, why: open.length > 0 ? `${open.at(-1) === '{' ? '}' : ']'} is missing at its end` : 'it is empty' };
    if (ends && wanted !== 'value' && wanted !== 'key' && wanted !== 'colon') {
      if (open.pop() !== (next === '}' ? '{' : '[')) return { at, why: `${next} closes nothing` };
      at++;
      wanted = 'more';
    } else if (wanted === 'more') {
      if (next !== ',') return { at, why: 'a comma is missing' };
      at++;
      wanted = open.at(-1) === '{' ? 'key' : 'value';
    } else if (wanted === 'colon') {
      if (next !== ':') return { at, why: 'a colon is missing' };
      at++;
      wanted = 'value';
    } else if (wanted === 'key' || wanted === 'first key') {
      if (ends) return { at, why: 'a comma stands before the end' };
      if (!take(string))
        return {
          at,
          why: next === '"' ? 'a text is not closed or holds what it may not' : 'a key in double quotes must stand here',
        };
      wanted = 'colon';
    } else if (next === '{' || next === '[') {
      open.push(next);
      at++;
      wanted = next === '{' ? 'first key' : 'first value';
    } else {
      if (ends) return { at, why: open.at(-1) === '[' ? 'a comma stands before the end' : 'a value is missing' };
      if (!take(string) && !take(scalar))
        return { at, why: next === '"' ? 'a text is not closed or holds what it may not' : 'a value must stand here' };
      wanted = 'more';
    }
  }
}
