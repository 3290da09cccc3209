import type { ExpressionStatement, Node, Program } from 'estree';
import { walk } from 'estree-walker';
import MagicString from 'magic-string';
import { parseSync } from 'oxc-parser';
import type { Spanned } from '../link/tree.js';
import { chainMaps, type RawMap } from '../maps/raw-map.js';

/** A call of the helper that decorates a member: `_decorate([…], Berth.prototype, "tide", null)`. */
const written = /\b_decorate\d*\(\[/;

/**
 * Puts the older decorators of a class's own members behind those of its instances' members, as TypeScript has them: the translator
 * takes all in the order of the source. `undefined` where nothing has to be moved.
 */
export function mendDecoratorOrder(text: string, map: RawMap): { text: string; map: RawMap } | undefined {
  if (!written.test(text)) return undefined;
  const { program, errors } = parseSync('module.js', text, { lang: 'js', sourceType: 'module', preserveParens: false });
  if (errors.length > 0) return undefined;
  const edited = new MagicString(text);
  walk(program as unknown as Program, {
    enter(node: Node) {
      if (node.type === 'Program' || node.type === 'BlockStatement' || node.type === 'StaticBlock') mendList(node.body, edited);
    },
  });
  if (!edited.hasChanged()) return undefined;
  const own = edited.generateMap({ hires: 'boundary', source: 'text' }) as unknown as RawMap;
  return { text: edited.toString(), map: chainMaps(own, map) };
}

function mendList(statements: readonly Node[], edited: MagicString): void {
  /** Where the first call for a class's own member stands, among those of one class that follow each other. */
  let first: { of: string; place: number } | undefined;
  statements.forEach((statement, index) => {
    const target = statement.type === 'ExpressionStatement' ? targetOf(statement) : undefined;
    if (target === undefined || target.of !== first?.of) first = undefined;
    if (target === undefined) return;
    const { start, end } = statement as Node & Spanned;
    const from = index === 0 ? start : (statements[index - 1] as Node & Spanned).end;
    if (target.isOwn) first ??= { of: target.of, place: from };
    else if (first) edited.move(from, end, first.place);
  });
}

/** What a call decorates a member of, and whether that is the class itself. */
function targetOf({ expression }: ExpressionStatement): { of: string; isOwn: boolean } | undefined {
  if (expression.type !== 'CallExpression' || expression.callee.type !== 'Identifier' || expression.arguments.length < 4)
    return undefined;
  if (!/^_decorate\d*$/.test(expression.callee.name)) return undefined;
  const [, target] = expression.arguments;
  if (target?.type === 'Identifier') return { of: target.name, isOwn: true };
  const isInstance = target?.type === 'MemberExpression' && target.object.type === 'Identifier';
  return isInstance ? { of: (target.object as { name: string }).name, isOwn: false } : undefined;
}
