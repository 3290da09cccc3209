import { tokenizer } from 'acorn';
import type { ProgramFiles } from './random-program.js';
import { randomNumbers } from './random-program.js';

/** Ways of writing the same program. */
export const styles = [
  'tidy',
  'without semicolons',
  'comments everywhere',
  'minified',
  'awkward names',
  'very long',
  'all at once',
] as const;
export type Style = (typeof styles)[number];

interface Token {
  text: string;
  /** What stands between it and the next one. */
  gap: string;
  isWord: boolean;
  isTemplate: boolean;
}

/** A program written in another style; it says the same. */
export function restyle(files: ProgramFiles, style: Style, seed: number): ProgramFiles {
  const random = randomNumbers(seed * 31 + 7);
  const restyled = Object.entries(files).map(([name, text]) => {
    if (!name.endsWith('.js') || style === 'tidy') return [name, text];
    let made = text;
    const isAll = style === 'all at once';
    if (style === 'awkward names' || isAll) made = withAwkwardNames(made, name);
    if (style === 'very long' || (isAll && random(4) === 0)) made = `${padding}${made}`;
    if (style === 'without semicolons' || isAll) made = withoutSemicolons(made);
    if (style === 'minified') made = minified(made);
    if (style === 'comments everywhere' || isAll) made = withComments(made, random);
    return [name, made];
  });
  return Object.fromEntries(restyled);
}

const padding = Array.from(
  { length: 3000 },
  (_, n) => `const pad${n} = [${n}, 'quay', { a: /x/g, b: \`\${${n}}\` }]; /* export const no${n} = 1; */\n`,
).join('');

/** Names of Node.js and of ours that a module may well use for something of its own, and exports that need no semicolon. */
function withAwkwardNames(text: string, name: string): string {
  const own = `\nconst process = { env: { NODE_ENV: 'own' }, browser: 0 }, require = (x) => x, module = 2, exports = 3, global = 4, Buffer = 5, __dirname = 6, my = 7, my_d = 8, vine = 9, v = 10\nlog(process.env.NODE_ENV, process.browser, require('fs'), module, exports, global, Buffer, __dirname, my, my_d, vine, v, (({ process }) => process.env)({ process }).NODE_ENV)\n`;
  if (name === 'last.js') return text + own;
  const exported = `export var a = 1\nexport let $ = 2, _ = 3\nexport const of = 4\nexport function async() { return $ }\nexport class from { static get = 5 }\nfor (var let1 = 0; let1 < 2; let1++) a++\n$ = a\nif (a) var b = $\nelse b = 0\nexport { b, b as "odd name", let1 }\nlog(a, $, _, of, async(), from.get, b)\n`;
  return `${text}${own}${exported}`;
}

function tokensOf(text: string): Token[] {
  const tokens = [...tokenizer(text, { ecmaVersion: 'latest', sourceType: 'module' })];
  return tokens.map(({ start, end, type }, at) => ({
    text: text.slice(start, end),
    gap: text.slice(end, tokens[at + 1]?.start ?? text.length),
    isWord: /^[\w$]/.test(text.slice(start, end)) && /[\w$]$/.test(text.slice(start, end)),
    isTemplate: type.label === 'template' || type.label === '`' || type.label === '${',
  }));
}

function joined(tokens: readonly Token[]): string {
  return tokens.map(({ text, gap }) => text + gap).join('');
}

function withoutSemicolons(text: string): string {
  const tokens = tokensOf(text);
  let depth = 0;
  return joined(
    tokens.map((token, at) => {
      if (token.text === '(' || token.text === '[') depth++;
      if (token.text === ')' || token.text === ']') depth--;
      const [before, after] = [tokens[at - 1], tokens[at + 1]];
      const isNeeded = depth > 0 || before?.text === ')' || before?.text === 'else' || !/[\n\r]/.test(token.gap);
      const goesOn = after !== undefined && (after.isTemplate || /^(?:[([+\-/*,.?=<>&|^%]|in$|instanceof$)/.test(after.text));
      return token.text === ';' && !isNeeded && !goesOn ? { ...token, text: '' } : token;
    }),
  );
}

function minified(text: string): string {
  const tokens = tokensOf(text);
  return joined(
    tokens.map((token, at) => {
      const after = tokens[at + 1];
      if (!after || token.isTemplate || after.isTemplate) return token;
      const isApart =
        (token.isWord && after.isWord) || /^[+-]/.test(after.text) || (/[\w$]$/.test(token.text) && /^[\w$"'#]/.test(after.text));
      // Where no semicolon stood, the line end was one.
      const ends = /[\n\r]/.test(token.gap) && token.text !== ';' && token.text !== '{' && token.text !== ',';
      return { ...token, gap: ends ? '\n' : isApart ? ' ' : '' };
    }),
  );
}

const inLine = ['/* c */', ' ', '/**/', '/* import x from "y"; */', '/* ` ${ */', "/* ' */"];
const ending = ['// c\n', '\n', '\r\n', '// export { x }\n', '/* \u2028 */', '// `\u2028', '\u2029', '/* a\n b */'];

function withComments(text: string, random: (below: number) => number): string {
  const tokens = tokensOf(text);
  return joined(
    tokens.map((token, at) => {
      const after = tokens[at + 1];
      if (!after || token.isTemplate || after.isTemplate || random(3) > 0) return token;
      // What is called to say something is found by its name and bracket.
      if (/^(?:log|ended)$/.test(token.text) && after.text === '(') return token;
      const mustStay =
        /^(?:return|throw|break|continue|yield|async|await|let|get|set|static|type)$/.test(token.text) ||
        /^(?:=>|\+\+|--)$/.test(after.text);
      const mayEnd = !mustStay && /^[,({[=+\-*&|?:<>!]$|^(?:from|as|import|export|const|of|in)$/.test(token.text);
      const filler = (mayEnd && random(2) === 0 ? ending : inLine)[random(6)]!;
      return { ...token, gap: filler === '' ? token.gap : `${token.gap}${filler}` };
    }),
  );
}
