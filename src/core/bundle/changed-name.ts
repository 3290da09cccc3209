import type { Identifier, Node } from 'estree';
import type { OwnNames } from './own-names.js';
import { type EffectContext, effectsOf } from './scan-effects.js';
import { hasAccessors, keyOf, memberPath } from './syntax.js';

export interface ChangeInput {
  names: OwnNames;
  parents: ReadonlyMap<Node, Node>;
  context: EffectContext;
  /** Whether a name is a top-level one of the module itself. */
  isOwn(name: string): boolean;
  /** What `isOwnMember` said of members before: each is written many times. */
  known: Map<string, boolean>;
}

/** The one top-level name whose value a statement adds something to, and does nothing else. */
export function changedName(node: Node, input: ChangeInput): string | undefined {
  if (node.type !== 'ExpressionStatement') return undefined;
  const { context, isOwn, names } = input;
  const { expression } = node;
  if (expression.type === 'CallExpression')
    return namespaceOf(expression, context, (own) => isOwn(own) && names.isOwnObject(own));
  if (expression.type !== 'AssignmentExpression' || expression.operator !== '=') return undefined;
  const { left, right } = expression;
  if (effectsOf(right, context).length > 0) return undefined;
  const path = left.type === 'Identifier' || left.type === 'MemberExpression' ? memberPath(left) : undefined;
  const [name, ...members] = path ?? [];
  if (name === undefined || !isOwn(name) || context.isEarly(left, name)) return undefined;
  if (members.length === 0) return name;
  if (!names.isFresh(name) || members.includes('__proto__')) return undefined;
  return members.length === 1 || (members.length === 2 && isKnownMember(name, members[0]!, input)) ? name : undefined;
}

function isKnownMember(name: string, member: string, input: ChangeInput): boolean {
  const key = `${name}.${member}`;
  const isOwn = input.known.get(key) ?? isOwnMember(name, member, input);
  input.known.set(key, isOwn);
  return isOwn;
}

/** Whether a member of what a name stands for is nobody else's object, whose members may be written without running code. */
function isOwnMember(name: string, member: string, { names, parents }: ChangeInput): boolean {
  const variable = names.variables.get(name);
  const made = variable?.defs[0]?.node as Node | undefined;
  const value = made?.type === 'VariableDeclarator' ? made.init : made;
  if (!value) return false;
  const isPrototype = member === 'prototype' && value.type !== 'ObjectExpression' && value.type !== 'ArrayExpression';
  if (isPrototype && hasAccessors(value, true)) return false;
  const values: Node[] = [];
  if (value.type === 'ObjectExpression')
    for (const part of value.properties)
      if (part.type === 'Property' && keyOf(part.key as Node) === member) values.push(part.value as Node);
  for (const { identifier } of variable!.references) {
    const at = parents.get(identifier as unknown as Node);
    if (at?.type !== 'MemberExpression' || at.object !== (identifier as unknown as Node)) continue;
    const isIt = memberPath(at)?.[1] === member;
    const parent = parents.get(at);
    const isWritten = parent?.type === 'AssignmentExpression' && parent.left === at;
    if (isIt && isWritten) values.push(parent.right);
    // What a pattern, a loop or a computed name writes may be anything.
    else if (isIt ? parent?.type !== 'MemberExpression' && isTarget(at, parent) : memberPath(at) === undefined && isWritten)
      return false;
  }
  return (isPrototype || values.length > 0) && values.every((other) => isMadeHere(other, isPrototype));
}

/** Whether a member stands where something is assigned to it other than by `=`. */
function isTarget(at: Node, parent: Node | undefined): boolean {
  return (
    parent?.type === 'ArrayPattern' ||
    parent?.type === 'RestElement' ||
    parent?.type === 'AssignmentPattern' ||
    parent?.type === 'Property' ||
    ((parent?.type === 'ForOfStatement' || parent?.type === 'ForInStatement') && parent.left === at)
  );
}

/** A new object, without code that runs when a member is written. A prototype may have one itself, as inheritance is written without classes. */
function isMadeHere(value: Node, isPrototype: boolean): boolean {
  const isLiteral =
    value.type === 'ObjectExpression' ||
    value.type === 'ArrayExpression' ||
    value.type === 'FunctionExpression' ||
    value.type === 'ArrowFunctionExpression';
  if (isLiteral) return !hasAccessors(value);
  if (!isPrototype) return false;
  if (value.type === 'NewExpression') return true;
  if (value.type !== 'CallExpression' || memberPath(value.callee)?.join('.') !== 'Object.create') return false;
  return value.arguments.every((given) => !hasAccessors(given));
}

/** `(function (N) { N.a = 1; })(N || (N = {}))`, by which a TypeScript namespace is made: the name that it fills. */
function namespaceOf(
  call: Node & { type: 'CallExpression' },
  context: EffectContext,
  isOwnObject: (name: string) => boolean,
): string | undefined {
  const { callee } = call;
  const [given] = call.arguments;
  if (callee.type !== 'FunctionExpression' || callee.params.length !== 1 || call.arguments.length !== 1) return undefined;
  if (given?.type !== 'LogicalExpression' || given.left.type !== 'Identifier' || !isOwnObject(given.left.name)) return undefined;
  const { right } = given;
  const makes = right.type === 'AssignmentExpression' ? right.right : right;
  if (makes.type !== 'ObjectExpression' || makes.properties.length > 0) return undefined;
  const [parameter] = callee.params;
  if (parameter?.type !== 'Identifier') return undefined;
  const own = { ...context, isPlain: (node: Identifier) => node.name === parameter.name || context.isPlain(node) };
  const fills = (node: Node): boolean => {
    if (node.type === 'AssignmentExpression' && node.operator === '=' && node.left.type === 'MemberExpression') {
      const { left } = node;
      return (
        left.object.type === 'Identifier' &&
        left.object.name === parameter.name &&
        (!left.computed || fills(left.property) || left.property.type === 'Literal') &&
        fills(node.right)
      );
    }
    return effectsOf(node, own).length === 0;
  };
  const isPlain = callee.body.body.every((statement) => {
    if (statement.type === 'ExpressionStatement') return fills(statement.expression);
    if (statement.type === 'ReturnStatement') return statement.argument?.type === 'Identifier';
    if (statement.type === 'VariableDeclaration')
      return statement.declarations.every(({ id, init }) => id.type === 'Identifier' && (!init || fills(init)));
    return effectsOf(statement, own).length === 0;
  });
  return isPlain ? given.left.name : undefined;
}
