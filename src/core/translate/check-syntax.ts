import { RegExpSyntaxError, RegExpValidator } from '@eslint-community/regexpp';
import type { Program } from 'estree';
import { parseSync } from 'oxc-parser';
import { eachNode, type Spanned } from '../link/tree.js';

/** What is wrong in a text, and where. */
export interface SyntaxMistake {
  message: string;
  hint?: string;
  start: number;
  end: number;
  /** It's a regular expression that neither an engine nor the newest edition of the language knows; a newer browser may. */
  isPattern?: true;
}

/**
 * What keeps JavaScript from running as a whole, early errors too (ECMA-262, 17): it would take everything else in its script with it.
 * `undefined` where nothing is wrong, as where an engine that refused it is only older than the text.
 */
export function syntaxMistake(text: string, isModule: boolean): SyntaxMistake | undefined {
  const { errors, program } = parseSync(isModule ? 'module.js' : 'module.cjs', text, {
    lang: 'js',
    sourceType: isModule ? 'module' : 'commonjs',
    preserveParens: false,
    showSemanticErrors: true,
  });
  const error = errors.find(({ severity }) => severity === 'Error');
  if (!error) return patternMistake(program as unknown as Program);
  const [label] = error.labels;
  const start = label?.start ?? 0;
  const hint = error.helpMessage ? { hint: error.helpMessage } : {};
  return { message: asSentence(error.message), ...hint, start, end: label?.end ?? start + 1 };
}

function patternMistake(program: Program): SyntaxMistake | undefined {
  let found: SyntaxMistake | undefined;
  eachNode(program, (node) => {
    if (!found && node.type === 'Literal' && 'regex' in node) found = mistakeIn(node as Spanned<typeof node>);
    return !found;
  });
  return found;
}

function mistakeIn({ regex, start, end }: Spanned & { regex: { pattern: string; flags: string } }): SyntaxMistake | undefined {
  try {
    new RegExp(regex.pattern, regex.flags);
    return undefined;
  } catch {
    // The engine may be older than the browsers.
  }
  try {
    new RegExpValidator().validateLiteral(`/${regex.pattern}/${regex.flags}`);
    return undefined;
  } catch (error) {
    return error instanceof RegExpSyntaxError ? { message: asSentence(error.message), start, end, isPattern: true } : undefined;
  }
}

function asSentence(message: string): string {
  return /[.!?]$/.test(message) ? message : `${message}.`;
}
