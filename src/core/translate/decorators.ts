import type { Node, Program } from 'estree';
import { walk } from 'estree-walker';
import { parseSync } from 'oxc-parser';

/**
 * Where a script holds a decorator that translation has left in it; `undefined` where it holds none. No browser runs them: the
 * whole script that such a module is a part of would be refused.
 */
export function findDecorator(text: string): number | undefined {
  if (!mayHoldDecorator(text)) return undefined;
  const { program } = parseSync('module.js', text, { lang: 'js', sourceType: 'unambiguous' as 'module', preserveParens: false });
  let found: number | undefined;
  walk(program as unknown as Program, {
    enter(node: Node) {
      if ((node.type as string) === 'Decorator') found ??= (node as unknown as { start: number }).start;
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
