import type { Node, Pattern } from 'estree';
import { walk } from 'estree-walker';
import type { Spanned } from '../link/tree.js';
import type { LateImport, Place } from './member.js';
import { keyOf } from './syntax.js';

/** Every `import()` among some nodes, with what is used of what it brings. */
export function lateImportsIn(nodes: readonly Node[], parents: ReadonlyMap<Node, Node>): { late: LateImport; place: Place }[] {
  return nodes.flatMap((node) => {
    if (node.type !== 'ImportExpression') return [];
    const { start } = node as Spanned;
    const { source, options } = node as typeof node & { options?: Node | null };
    const type = options ? typeIn(options) : undefined;
    const isPlain = source.type === 'Literal' && typeof source.value === 'string';
    const key = isPlain ? `${source.value}${type === undefined ? '' : `\0${type}`}` : undefined;
    const used = usedNames(node, parents);
    const called = used?.filter(({ isCalled }) => isCalled).map(({ name }) => name) ?? [];
    const late = { start, key, names: used?.map(({ name }) => name), ...(called.length > 0 ? { called } : {}) };
    return [{ late, place: { kind: 'dynamic', start, end: start + 'import'.length } }];
  });
}

function typeIn(node: Node): string | undefined {
  if (node.type !== 'ObjectExpression') return undefined;
  for (const member of node.properties) {
    if (member.type !== 'Property') continue;
    const name =
      member.key.type === 'Identifier' ? member.key.name : member.key.type === 'Literal' ? member.key.value : undefined;
    if (name === 'type' && member.value.type === 'Literal') return String(member.value.value);
    if (name === 'with') return typeIn(member.value);
  }
  return undefined;
}

interface UsedName {
  name: string;
  /** It's called as a member, so that its `this` is all that the module exports. */
  isCalled?: boolean;
}

/** The exports that are used of what an `import()` brings; `undefined` where that doesn't show. */
function usedNames(node: Node, parents: ReadonlyMap<Node, Node>): UsedName[] | undefined {
  const parent = parents.get(node);
  if (parent?.type === 'ExpressionStatement') return [];
  if (parent?.type === 'AwaitExpression') return namesOfValue(parent, parents);
  if (parent?.type !== 'MemberExpression' || parent.object !== node || parent.computed) return undefined;
  const call = parents.get(parent);
  const isThen = parent.property.type === 'Identifier' && parent.property.name === 'then';
  if (!isThen || call?.type !== 'CallExpression' || call.callee !== parent) return undefined;
  const [onFulfilled] = call.arguments;
  const isFunction = onFulfilled?.type === 'ArrowFunctionExpression' || onFulfilled?.type === 'FunctionExpression';
  if (!isFunction || onFulfilled.params.length > 1) return undefined;
  if (onFulfilled.type === 'FunctionExpression' && mentions(onFulfilled, 'arguments')) return undefined;
  const [parameter] = onFulfilled.params;
  if (!parameter) return [];
  return parameter.type === 'Identifier' ? membersOf(parameter.name, onFulfilled, parents) : namesOfPattern(parameter);
}

/** What is used of an awaited namespace. */
function namesOfValue(node: Node, parents: ReadonlyMap<Node, Node>): UsedName[] | undefined {
  const parent = parents.get(node);
  if (parent?.type === 'ExpressionStatement') return [];
  if (parent?.type === 'VariableDeclarator' && parent.init === node) return namesOfPattern(parent.id);
  if (parent?.type !== 'MemberExpression' || parent.object !== node || parent.computed || parent.property.type !== 'Identifier')
    return undefined;
  return [{ name: parent.property.name, isCalled: isCallee(parent, parents) }];
}

function namesOfPattern(pattern: Pattern): UsedName[] | undefined {
  if (pattern.type !== 'ObjectPattern') return undefined;
  const names: UsedName[] = [];
  for (const member of pattern.properties) {
    if (member.type === 'RestElement' || member.computed) return undefined;
    names.push({ name: keyOf(member.key as Node)! });
  }
  return names;
}

/** The members of a parameter that a function reads; `undefined` where it does something else with it too. */
function membersOf(name: string, of: Node, parents: ReadonlyMap<Node, Node>): UsedName[] | undefined {
  const names: UsedName[] = [];
  let isOther = false;
  walk(of, {
    enter(node, parent, key) {
      if (node.type !== 'Identifier' || node.name !== name || key === 'params') return;
      if (parent?.type === 'MemberExpression' && !parent.computed && key === 'property') return;
      const isRead =
        parent?.type === 'MemberExpression' && key === 'object' && !parent.computed && parent.property.type === 'Identifier';
      if (isRead) names.push({ name: (parent.property as { name: string }).name, isCalled: isCallee(parent, parents) });
      else isOther = true;
    },
  });
  return isOther ? undefined : names;
}

/** Whether a member is called where it stands. */
function isCallee(member: Node, parents: ReadonlyMap<Node, Node>): boolean {
  const parent = parents.get(member);
  return (
    (parent?.type === 'CallExpression' && parent.callee === member) ||
    (parent?.type === 'TaggedTemplateExpression' && parent.tag === member)
  );
}

function mentions(of: Node, name: string): boolean {
  let found = false;
  walk(of, {
    enter(node) {
      if (node.type === 'Identifier' && node.name === name) found = true;
    },
  });
  return found;
}
