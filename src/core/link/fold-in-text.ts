import { parse } from 'es-module-lexer';
import type { Edit } from './edits.js';

/** A stand-in that the lexer reports wherever it stands in code, and that is no longer than what it stands for. */
const standIn = 'import.meta';

/** How many characters around a name are looked at. */
const reach = 200;

/**
 * The edits that put constants, by member chains such as `process.env.NODE_ENV`, in the place of their reads in a module's or
 * script's code, and not in strings, comments, templates or patterns. No syntax tree is made: the lexer finds stand-ins of
 * the same length. `undefined` where the text does not show it well enough.
 */
export function foldTextually(text: string, constants: Readonly<Record<string, string>>): Edit[] | undefined {
  const present = Object.keys(constants).filter((chain) => text.includes(chain));
  if (present.length === 0) return [];
  // The module may call something of its own by that name.
  if (present.some((chain) => mayBeOwn(text, chain.split('.')[0]!))) return undefined;
  // A single name may also stand for a member or a key.
  if (present.some((chain) => chain.length < standIn.length || !/^[\w$]+(?:\.[\w$]+)+$/.test(chain))) return undefined;
  // Written in pieces or with brackets, a chain is the same to a parser.
  const heads = new Set(present.map((chain) => escaped(chain.split('.')[0]!)));
  for (const head of heads)
    if (
      new RegExp(`${head}(?<![\\w$]${head})(?<!(?<!\\.\\.)\\.${head})(?:\\.[\\w$]+)*\\s*(?:\\[|\\?\\.|\\s\\.|\\.\\s|/)`).test(
        text,
      )
    )
      return undefined;
  const places = new Map<number, Edit>();
  const longestFirst = present.sort((a, b) => b.length - a.length).map(escaped);
  const chains = new RegExp(
    `(?<![\\w$\\u0080-\\uffff]|(?<!\\.\\.)\\.)(?:${longestFirst.join('|')})(?![\\w$\\u0080-\\uffff])`,
    'g',
  );
  const replaced = text.replace(chains, (chain: string, start: number) => {
    places.set(start, { start, end: start + chain.length, text: constants[chain]!.padEnd(chain.length) });
    return standIn.padEnd(chain.length);
  });
  try {
    const found = parse(replaced)[0].flatMap(({ type, start }) => (type === 'import-meta' ? (places.get(start) ?? []) : []));
    return found.some((edit) => mayBeWritten(text, edit)) ? undefined : found;
  } catch {
    return undefined; // the lexer takes it for no JavaScript, which the parser may know better
  }
}

/** What stands before and after a name where it is declared: as a variable, a parameter or an import. */
const declaring = /(?:\b(?:var|let|const|function|class|import|as|catch)\s*\*?\s*|[,({[]\s*|\.{3}\s*)$/;
const declared = /^\s*(?:[=,)}\];:({]|(?:from|of|in|extends)\b)/;

/** Whether a name may be declared in a text. Errs towards yes. */
function mayBeOwn(text: string, name: string): boolean {
  // Each place of the name is looked at, instead of each place of the text.
  for (const { index } of text.matchAll(wholeWord(name))) {
    const before = text.slice(Math.max(0, index - reach), index);
    const after = text.slice(index + name.length, index + name.length + reach);
    if (before.length === reach && before.trim() === '') return true;
    if (after.length === reach && after.trim() === '') return true;
    if (declaring.test(before) && declared.test(after)) return true;
    if (!before.endsWith('.') && /^\s*=>/.test(after)) return true;
    if (/\b(?:var|let)\s+$/.test(before) && /^\s*?$/m.test(after)) return true;
  }
  return false;
}

/** Finds a name where no longer one holds it. The name stands first, which lets the engine skip what has none of its characters. */
function wholeWord(name: string): RegExp {
  return new RegExp(`${escaped(name)}(?<![\\w$]${escaped(name)})(?![\\w$])`, 'g');
}

function escaped(name: string): string {
  return name.replace(/[.$]/g, '\\$&');
}

function mayBeWritten(text: string, { start, end }: Edit): boolean {
  const after = text.slice(end, end + 100);
  const before = text.slice(Math.max(0, start - 40), start);
  return /^\s*(?:=(?![=>])|[-+*/%&|^?<>]{1,3}=(?!=)|\+\+|--|\/)/.test(after) || /(?:\bdelete|\+\+|--|\/)\s*$/.test(before);
}
