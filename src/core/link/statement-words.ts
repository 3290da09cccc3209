/** One word, string or mark of an import or export statement. */
interface Word {
  kind: 'name' | 'string' | 'mark';
  /** Names and strings with their escapes resolved. */
  value: string;
  start: number;
  end: number;
}

const wordPattern =
  /(?<trivia>\s+|\/\/[^\n\r\u2028\u2029]*|\/\*[\s\S]*?\*\/)|(?<name>(?:[\p{ID_Start}$_]|\\u(?:[0-9a-fA-F]{4}|\{[0-9a-fA-F]+\}))(?:[\p{ID_Continue}$\u200c\u200d]|\\u(?:[0-9a-fA-F]{4}|\{[0-9a-fA-F]+\}))*)|(?<string>"(?:[^"\\]|\\[\s\S])*"|'(?:[^'\\]|\\[\s\S])*')|(?<mark>[\s\S])/uy;

/** The words of `text` from `start` on, without white space and comments. */
export function* wordsFrom(text: string, start: number): Generator<Word> {
  wordPattern.lastIndex = start;
  while (wordPattern.lastIndex < text.length) {
    const at = wordPattern.lastIndex;
    const match = wordPattern.exec(text);
    if (!match?.groups) return;
    const end = wordPattern.lastIndex;
    const { name, string, mark } = match.groups;
    if (name !== undefined) yield { kind: 'name', value: unescapeName(name), start: at, end };
    else if (string !== undefined) yield { kind: 'string', value: unescapeString(string), start: at, end };
    else if (mark !== undefined) yield { kind: 'mark', value: mark, start: at, end };
    // The consumer may have used the shared pattern meanwhile.
    wordPattern.lastIndex = end;
  }
}

/** One name that an import statement brings in. `imported` is `null` for the namespace object. */
export interface ImportedName {
  imported: string | null;
  local: string;
}

/** The names in `import a, { b as c } from …`, which starts at `start`. The statement is known to parse. */
export function readImportedNames(text: string, start: number, end: number): ImportedName[] {
  usualImport.lastIndex = start;
  const usual = usualImport.exec(text);
  if (usual) return usualNames(usual);
  const words = [...wordsFrom(text.slice(0, end), start)];
  const names: ImportedName[] = [];
  let at = 1; // past `import`
  const isMark = (mark: string) => words[at]?.kind === 'mark' && words[at]!.value === mark;
  if (words[at]?.kind === 'string') return names;
  if (words[at]?.kind === 'name') names.push({ imported: 'default', local: words[at++]!.value });
  if (isMark(',')) at++;
  if (isMark('*')) {
    names.push({ imported: null, local: words[at + 2]!.value });
  } else if (isMark('{')) {
    at++;
    while (!isMark('}')) {
      const imported = words[at++]!;
      if (words[at]?.kind === 'name' && words[at]!.value === 'as') {
        names.push({ imported: imported.value, local: words[at + 1]!.value });
        at += 2;
      } else names.push({ imported: imported.value, local: imported.value });
      if (isMark(',')) at++;
    }
  }
  return names;
}

/** An import as nearly all are written: without comments, escapes and names that are strings. */
const usualImport =
  /import(?:\s+(?<name>[\w$]+)\s*,?)?\s*(?:\{(?<list>[\w$\s,]*)\}|\*\s*as\s+(?<namespace>[\w$]+))?\s*from\s*['"]/y;

function usualNames({ groups }: RegExpExecArray): ImportedName[] {
  const names: ImportedName[] = [];
  if (groups!.name !== undefined) names.push({ imported: 'default', local: groups!.name });
  if (groups!.namespace !== undefined) names.push({ imported: null, local: groups!.namespace });
  for (const item of groups!.list?.split(',') ?? []) {
    const words = item.trim().split(/\s+/);
    if (words[0] !== '') names.push({ imported: words[0]!, local: words.at(-1)! });
  }
  return names;
}

/** Resolves `\uXXXX` in an identifier, so that differently written names compare equal (ECMA-262, 12.7). */
export function unescapeName(name: string): string {
  if (!name.includes('\\')) return name;
  return name.replace(/\\u(?:\{([0-9a-fA-F]+)\}|([0-9a-fA-F]{4}))/g, (_, long, short) =>
    String.fromCodePoint(Number.parseInt(long ?? short, 16)),
  );
}

const simpleEscapes: Record<string, string> = {
  n: '\n',
  t: '\t',
  r: '\r',
  b: '\b',
  f: '\f',
  v: '\v',
  '0': '\0',
  '\n': '',
  '\r\n': '',
};

/** The value of a string literal, quotes included in `literal`. */
export function unescapeString(literal: string): string {
  const body = literal.slice(1, -1);
  if (!body.includes('\\')) return body;
  return body.replace(
    /\\(?:u\{([0-9a-fA-F]+)\}|u([0-9a-fA-F]{4})|x([0-9a-fA-F]{2})|(\r\n|[\s\S]))/g,
    (_, long, short, hex, single) => {
      const code = long ?? short ?? hex;
      if (code !== undefined) return String.fromCodePoint(Number.parseInt(code, 16));
      return simpleEscapes[single] ?? single;
    },
  );
}
