import type { Node } from 'estree';
import { hoistedNames } from '../link/declared-names.js';
import type { Spanned } from '../link/tree.js';
import type { Branch, Choice } from './member.js';

/** Types of nodes in which choices are found. */
export const choiceTypes = ['IfStatement', 'ConditionalExpression', 'ChainExpression', 'LogicalExpression'];

/** The tests among some nodes whose outcome may be known before they run. `isConstant` tells which names may stand for a known value. */
export function choicesIn(nodes: readonly Node[], isConstant: (name: string) => boolean): Choice[] {
  const choices: Choice[] = [];
  const add = (kind: Choice['kind'], test: Node, yes: Node | null | undefined, no: Node | null | undefined) => {
    if (mayBeKnown(test, isConstant)) choices.push({ kind, test, yes: branch(yes), no: branch(no) });
  };
  for (const node of nodes) {
    if (node.type === 'IfStatement') add('if', node.test, node.consequent, node.alternate);
    if (node.type === 'ConditionalExpression') add('conditional', node.test, node.consequent, node.alternate);
    if (node.type === 'ChainExpression') {
      const start = optionalStart(node.expression);
      if (start?.type === 'MemberExpression') add('?.', start, node, undefined);
    }
    if (node.type === 'LogicalExpression') add(node.operator, node.left, node.right, undefined);
  }
  return choices;
}

/** What stands in front of the first `?.` of a chain. */
function optionalStart(node: Node): Node | undefined {
  if (node.type !== 'MemberExpression' && node.type !== 'CallExpression') return undefined;
  const inner = (node.type === 'MemberExpression' ? node.object : node.callee) as Node;
  return optionalStart(inner) ?? (node.optional ? inner : undefined);
}

function branch(node: Node | null | undefined): Branch | undefined {
  if (!node) return undefined;
  const { start, end } = node as Spanned;
  const isStatement = /(?:Statement|Declaration)$/.test(node.type);
  const standIn = isStatement ? '' : node.type === 'ChainExpression' ? 'undefined' : '0';
  return { start, end, standIn, hoisted: isStatement ? hoistedNames(node) : [] };
}

/** The branch of a choice that can't run, given what its test comes to. */
export function deadBranch({ kind, yes, no }: Choice, value: unknown): Branch | undefined {
  if (kind === '||') return value ? yes : undefined;
  if (kind === '?.') return value === null || value === undefined ? yes : undefined;
  if (kind === '??') return value === null || value === undefined ? undefined : yes;
  return value ? no : yes;
}

/** Whether an expression is made of literals and names of constants only, so that its value may be known. */
export function mayBeKnown(node: Node, isConstant: (name: string) => boolean): boolean {
  switch (node.type) {
    case 'Literal':
      return !('regex' in node) && !('bigint' in node);
    case 'Identifier':
      return node.name === 'undefined' || isConstant(node.name);
    case 'TemplateLiteral':
      return node.expressions.length === 0;
    case 'UnaryExpression':
      if (node.operator === 'typeof') return node.argument.type === 'Identifier';
      return ['!', '-', 'void'].includes(node.operator) && mayBeKnown(node.argument, isConstant);
    case 'MemberExpression':
      // `process.env.NODE_ENV`, or a member of an enumeration; others turn out to be unknown.
      return node.object.type !== 'Super' && (node.object.type === 'MetaProperty' || chainStart(node) === 'Identifier');
    case 'BinaryExpression':
      return (
        ['===', '!==', '==', '!=', '<', '>', '<=', '>=', '+'].includes(node.operator) &&
        mayBeKnown(node.left, isConstant) &&
        mayBeKnown(node.right, isConstant)
      );
    case 'LogicalExpression':
      // The left side alone may decide.
      return mayBeKnown(node.left, isConstant);
    case 'ConditionalExpression':
      return mayBeKnown(node.test, isConstant);
    default:
      return false;
  }
}

function chainStart(node: Node): string {
  return node.type === 'MemberExpression' ? chainStart(node.object) : node.type;
}
