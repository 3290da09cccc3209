import type { Node, Program } from 'estree';
import { walk } from 'estree-walker';
import { parseSync } from 'oxc-parser';
import type { ScriptLanguage } from './adapter.js';

/**
 * Where a script holds a decorator; `undefined` where it holds none. No browser runs them: the whole script that such a module is a
 * part of would be refused.
 */
export function findDecorator(text: string, lang: ScriptLanguage): number | undefined {
  return mayHoldDecorator(text) ? findNode(text, 'Decorator', lang) : undefined;
}

/** Whether a script holds a member with the keyword `accessor` (the same proposal), which no browser knows either. */
export function holdsAccessor(text: string, lang: ScriptLanguage): boolean {
  return (
    /\baccessor\s*[\p{ID_Start}$_#['"\d]/u.test(text) &&
    /\bclass\b/.test(text) &&
    findNode(text, 'AccessorProperty', lang) !== undefined
  );
}

/** Where the first node of a type begins. */
function findNode(text: string, type: string, lang: ScriptLanguage): number | undefined {
  const { program } = parseSync(`module.${lang}`, text, { lang, sourceType: 'unambiguous' as 'module', preserveParens: false });
  let found: number | undefined;
  walk(program as unknown as Program, {
    enter(node: Node) {
      if ((node.type as string) === type) found ??= (node as unknown as { start: number }).start;
      if (found !== undefined) this.skip();
    },
  });
  return found;
}

/** Comments and strings aside, the text has an `@` in front of a name and a class. Errs towards yes. */
function mayHoldDecorator(text: string): boolean {
  if (!text.includes('@') || !/\bclass\b/.test(text)) return false;
  const code = text.replace(/\/\*[\s\S]*?\*\/|\/\/.*|(["'`])(?:\\[\s\S]|(?!\1)[^\\])*\1/g, '');
  return /@[\w$(]/.test(code);
}
