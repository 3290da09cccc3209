import type { Identifier, Node } from 'estree';
import { hoistedNames } from '../link/declared-names.js';
import type { Spanned } from '../link/tree.js';
import type { Branch, Choice } from './member.js';

/** Types of nodes in which choices are found. */
export const choiceTypes = ['IfStatement', 'ConditionalExpression', 'ChainExpression', 'LogicalExpression'];

/** What an identifier is where it stands: whatever functions and blocks around it declare hides what it would be at the top. */
export interface Standing {
  /** It's a top-level name of the module, and may stand for a known value. */
  isConstant(node: Identifier): boolean;
  isTop(node: Identifier): boolean;
  isGlobal(node: Identifier): boolean;
}

/** The tests among some nodes whose outcome may be known before they run. */
export function choicesIn(nodes: readonly Node[], standing: Standing): Choice[] {
  const choices: Choice[] = [];
  const add = (kind: Choice['kind'], test: Node, yes: Node | null | undefined, no: Node | null | undefined) => {
    if (mayBeKnown(test, standing)) choices.push({ kind, test: knownPart(test, standing), yes: branch(yes), no: branch(no) });
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
export function mayBeKnown(node: Node, standing: Standing): boolean {
  switch (node.type) {
    case 'Literal':
      return !('regex' in node) && !('bigint' in node);
    case 'Identifier':
      return node.name === 'undefined' ? standing.isGlobal(node) : standing.isConstant(node);
    case 'TemplateLiteral':
      return node.expressions.length === 0;
    case 'UnaryExpression':
      if (node.operator === 'typeof') return node.argument.type === 'Identifier' && standing.isGlobal(node.argument);
      return ['!', '-', 'void'].includes(node.operator) && mayBeKnown(node.argument, standing);
    case 'MemberExpression': {
      // `process.env.NODE_ENV`, or a member of an enumeration; others turn out to be unknown.
      const first = chainStart(node);
      return (
        first.type === 'MetaProperty' || (first.type === 'Identifier' && (standing.isTop(first) || standing.isGlobal(first)))
      );
    }
    case 'BinaryExpression':
      return (
        ['===', '!==', '==', '!=', '<', '>', '<=', '>=', '+'].includes(node.operator) &&
        mayBeKnown(node.left, standing) &&
        mayBeKnown(node.right, standing)
      );
    case 'LogicalExpression':
      // The left side alone may decide.
      return mayBeKnown(node.left, standing);
    case 'ConditionalExpression':
      return mayBeKnown(node.test, standing);
    default:
      return false;
  }
}

/** An expression of which nothing is known. */
export const unknown: Node = { type: 'Super' };

/** An expression with nothing left in it that means something else than it says at the top of its module: a copy, to be kept. */
export function knownPart(node: Node, standing: Standing): Node {
  const part = <T extends Node>(inner: T) => knownPart(inner, standing) as T;
  switch (node.type) {
    case 'UnaryExpression':
      return node.operator === 'typeof'
        ? mayBeKnown(node, standing)
          ? node
          : unknown
        : { ...node, argument: part(node.argument) };
    case 'BinaryExpression':
    case 'LogicalExpression':
      return { ...node, left: part(node.left as Node), right: part(node.right) } as Node;
    case 'ConditionalExpression':
      return { ...node, test: part(node.test), consequent: part(node.consequent), alternate: part(node.alternate) };
    default:
      return mayBeKnown(node, standing) ? node : unknown;
  }
}

function chainStart(node: Node): Node {
  return node.type === 'MemberExpression' ? chainStart(node.object as Node) : node;
}
