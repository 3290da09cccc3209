import type { CallExpression, Node, Program } from 'estree';
import { walk } from 'estree-walker';
import { parseSync } from 'oxc-parser';
import type { Spanned } from './tree.js';

/** A string that names a file, with its quotes. */
export interface NamedFile {
  specifier: string;
  start: number;
  end: number;
}

/** The files that `importScripts('./a.js')` names in a call (HTML Living Standard, 10.3.1). URLs of elsewhere are none. */
export function scriptsNamed(call: CallExpression, text: string): NamedFile[] {
  const { callee } = call;
  const name = callee.type === 'MemberExpression' && !callee.computed ? callee.property : callee;
  if (name.type !== 'Identifier' || name.name !== 'importScripts') return [];
  return call.arguments.flatMap((argument) => {
    if (argument.type !== 'Literal' || typeof argument.value !== 'string') return [];
    const { start, end } = argument as unknown as Spanned;
    const specifier = argument.value;
    const isPlain = text.slice(start + 1, end - 1) === specifier && /^(?:\.{0,2}\/(?!\/)|[\w@])[^:]*$/.test(specifier);
    return isPlain ? [{ specifier, start, end }] : [];
  });
}

/** The same for all calls of a module, which has to be parsed for it. */
export function allScriptsNamed(text: string): NamedFile[] {
  const { program } = parseSync('module.js', text, { lang: 'js', sourceType: 'module', preserveParens: false });
  const named: NamedFile[] = [];
  walk(program as unknown as Program, {
    enter(node: Node) {
      if (node.type === 'CallExpression') named.push(...scriptsNamed(node as CallExpression, text));
    },
  });
  return named;
}
