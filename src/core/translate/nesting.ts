import { type Problem, VineError } from '../problem/problem.js';

/** Below this length no text can be nested deeply enough to matter. */
const shortest = 12_000;
/** Brackets in brackets. */
const deepest = 1500;
/** Words and signs that may all stand in each other: `a => b => c`, `!!!a`, `a + b + c`, `if (a) if (b) c`, `a.b.c`. */
const longestChain = 5000;

/** Elements that begin, whether they seem to end or not: what looks like an end may stand in a string. */
const mostElements = 4000;

/** What a byte is to the estimate. */
const word = 1;
const space = 2;
const opening = 3;
const closing = 4;
const closingBrace = 5;
const divider = 6;
const less = 7;
const greater = 8;
const kinds = new Uint8Array(256);
for (let code = 0; code < 256; code++) {
  const sign = String.fromCharCode(code);
  if (/[\w$\x80-\xff]/.test(sign)) kinds[code] = word;
  else if (code <= 0x20) kinds[code] = space;
}
const named = { '([{': opening, ')]': closing, '}': closingBrace, ',;': divider, '<': less, '>': greater };
for (const [signs, kind] of Object.entries(named)) for (const sign of signs) kinds[sign.charCodeAt(0)] = kind;

/** What may follow a closed bracket without a statement having ended there. */
const goesOn = /^(?:else|while|in|of|instanceof|as|satisfies|extends|is|keyof)(?![\w$])|^[^\w$}"'#@\x80-\xff]/;

/** What a script may hold beside JavaScript; all of it where nothing is said. */
export interface Written {
  types?: boolean;
  elements?: boolean;
}

/**
 * Whether a script may be nested so deeply that a parser runs out of its stack, which in native code ends the process. Only an
 * estimate, made in one pass and without knowing strings from code: where it says no, there is no danger.
 */
export function mayBeTooDeep(text: string, { types = true, elements: mayHoldElements = true }: Written = {}): boolean {
  if (text.length < shortest) return false;
  // Bytes, since the engine's optimised form of a loop over the characters of a long string takes minutes (Node.js 20).
  const codes = Buffer.from(text, 'latin1');
  /** For each bracket that is open around, the words and signs since a comma or the end of a statement in it. */
  const around = new Int32Array(deepest + 1);
  let depth = 0;
  /** The same for the innermost one, and for all together. */
  let chain = 0;
  let chained = 0;
  let angles = 0;
  let elements = 0;
  let begun = 0;
  /** Of all the text: what stands between them doesn't tell whether one is in another. */
  let elses = 0;
  const { length } = codes;
  for (let at = 0; at < length; at++) {
    switch (kinds[codes[at]!]) {
      case space:
        continue;
      case word: {
        const start = at;
        while (at + 1 < length && kinds[codes[at + 1]!] === word) at++;
        if (at - start === 3 && codes[start] === 0x65 && codes[start + 1] === 0x6c && codes[at] === 0x65) elses++;
        break;
      }
      case opening:
        around[depth] = chain + 1;
        if (++depth > deepest || ++chained > longestChain) return true;
        chain = 0;
        continue;
      case closing:
      case closingBrace:
        chained -= chain;
        chain = depth > 0 ? around[--depth]! : 0;
        if (codes[at] === 0x7d && !goesOnAfter(codes, at + 1)) {
          chained -= chain;
          chain = 0;
        }
        continue;
      case divider:
        chained -= chain;
        chain = 0;
        continue;
      case less:
        // In JavaScript, one less than another is counted as a sign like others.
        if (++angles > deepest && (types || mayHoldElements)) return true;
        if (mayHoldElements) {
          const isEnd = codes[at + 1] === 0x2f;
          elements += isEnd ? -1 : 1;
          if (!isEnd) begun++;
        }
        if (elements > deepest || begun > mostElements) return true;
        break;
      case greater:
        if (angles > 0) angles--;
        if (codes[at - 1] === 0x2f && elements > 0) elements--;
        break;
    }
    chain++;
    if (++chained > longestChain || elses > longestChain) return true;
  }
  return false;
}

/** What is said of a script that is nested too deeply. */
export function tooDeepProblem(id: string): Problem {
  return {
    code: 'file-too-large',
    severity: 'error',
    file: id,
    message: `${id} is too deeply nested to be parsed.`,
    hint: 'Brackets or operators stand in each other by the thousand there. Divide the file, or let it be generated flat.',
  };
}

/** What a script may hold by its name, where nothing else is known: an element that ends, if the name leaves that open. */
export function writtenIn(name: string, text: string): Written {
  const isTypeScript = /\.[cm]?ts$/.test(name);
  return { types: !/\.[cm]?jsx?$/.test(name), elements: name.endsWith('x') || (!isTypeScript && text.includes('</')) };
}

/**
 * Refuses a script that may be nested too deeply, where it isn't worth a process to find out. `name` says what it's written in.
 *
 * @throws VineError `file-too-large`.
 */
export function refuseTooDeep(id: string, text: string, name = id): void {
  if (mayBeTooDeep(text, writtenIn(name, text))) throw new VineError(tooDeepProblem(id));
}

function goesOnAfter(codes: Buffer, from: number): boolean {
  let at = from;
  while (at < codes.length && kinds[codes[at]!] === space) at++;
  return at < codes.length && goesOn.test(codes.toString('latin1', at, at + 12));
}
