import type { Node } from 'estree';
import type { Spanned } from '../link/tree.js';
import type { Reference } from './member.js';

export function isInNewCallee(node: Node, parents: ReadonlyMap<Node, Node>): boolean {
  let at = node;
  for (let parent = parents.get(at); parent; at = parent, parent = parents.get(at)) {
    if (parent.type === 'NewExpression') return parent.callee === at;
    if (parent.type !== 'MemberExpression' || parent.object !== at) return false;
  }
  return false;
}

export function runsAtOnce(node: Node, parents: ReadonlyMap<Node, Node>): boolean {
  for (let at: Node | undefined = node; at; at = parents.get(at)) {
    if (at.type === 'FunctionDeclaration' || at.type === 'FunctionExpression' || at.type === 'ArrowFunctionExpression')
      return false;
    if (at.type === 'PropertyDefinition' && !at.static) return false;
  }
  return true;
}

/** The members that are read off a name, and what is done with the last. */
export function membersOf(
  node: Node,
  parents: ReadonlyMap<Node, Node>,
): Pick<Reference, 'members' | 'isCalled' | 'isMemberWrite'> {
  const members: Reference['members'] = [];
  let at = node;
  let parent = parents.get(at);
  while (parent?.type === 'MemberExpression' && parent.object === at && !parent.optional) {
    const name =
      !parent.computed && parent.property.type === 'Identifier'
        ? parent.property.name
        : parent.computed && parent.property.type === 'Literal' && typeof parent.property.value === 'string'
          ? parent.property.value
          : undefined;
    if (name === undefined) break;
    members.push({ name, end: (parent as Spanned).end });
    at = parent;
    parent = parents.get(at);
  }
  const isCalled =
    (parent?.type === 'CallExpression' && parent.callee === at) ||
    (parent?.type === 'TaggedTemplateExpression' && parent.tag === at);
  const isMemberWrite =
    (parent?.type === 'AssignmentExpression' && parent.left === at) ||
    parent?.type === 'UpdateExpression' ||
    (parent?.type === 'UnaryExpression' && parent.operator === 'delete') ||
    ((parent?.type === 'ForOfStatement' || parent?.type === 'ForInStatement') && parent.left === at) ||
    isPatternTarget(at, parents);
  return { members, isCalled, isMemberWrite };
}

/** Whether a member stands in a pattern that assigns it: `[ns.a] = …`, `({ a: ns.a } = …)`. */
export function isPatternTarget(at: Node, parents: ReadonlyMap<Node, Node>): boolean {
  const parent = parents.get(at);
  if (parent?.type === 'ArrayPattern' || parent?.type === 'RestElement') return true;
  if (parent?.type === 'AssignmentPattern') return parent.left === at;
  return parent?.type === 'Property' && parent.value === at && parents.get(parent)?.type === 'ObjectPattern';
}

export function writeAround(node: Node, parents: ReadonlyMap<Node, Node>): Spanned | undefined {
  for (let at: Node | undefined = node; at; at = parents.get(at)) {
    if (at.type === 'AssignmentExpression' || at.type === 'UpdateExpression') return at as Spanned;
    if (at.type === 'ForOfStatement' || at.type === 'ForInStatement') return at as Spanned;
    if (at.type !== 'VariableDeclaration') continue;
    const parent = parents.get(at);
    return (parent?.type === 'ForOfStatement' || parent?.type === 'ForInStatement' ? parent : at) as Spanned;
  }
  return undefined;
}
