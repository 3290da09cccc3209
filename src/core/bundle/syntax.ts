import type { Class, Identifier, Node, Program } from 'estree';
import { walk } from 'estree-walker';
import type { Spanned } from '../link/tree.js';
import { urlPlaces } from '../link/url-places.js';
import type { Place } from './member.js';

/** The names in a chain of members without calls: `a.b['c']` is `a`, `b`, `c`. */
export function memberPath(node: Node): string[] | undefined {
  if (node.type === 'Identifier') return [node.name];
  if (node.type !== 'MemberExpression' || (node.computed && node.property.type !== 'Literal')) return undefined;
  const { property } = node;
  const name = property.type === 'Identifier' ? property.name : property.type === 'Literal' ? String(property.value) : undefined;
  return name === undefined ? undefined : memberPath(node.object)?.concat(name);
}

/** The name of a member where it's declared, if it's written there. */
export function keyOf(key: Node): string | undefined {
  return key.type === 'Identifier' ? key.name : key.type === 'Literal' ? String(key.value) : undefined;
}

/** Functions and classes that take the name of what they are assigned to (ECMA-262, 8.4.5). */
export function isAnonymous(node: Node): boolean {
  return (
    node.type === 'ArrowFunctionExpression' ||
    ((node.type === 'FunctionExpression' || node.type === 'ClassExpression') && !node.id)
  );
}

/** Whether a function uses `this` in its own body. */
export function usesOwnThis(node: Node): boolean {
  let found = false;
  walk(node, {
    enter(inner) {
      if (inner !== node && (inner.type === 'FunctionExpression' || inner.type === 'FunctionDeclaration')) return this.skip();
      if (inner.type === 'ClassBody') return this.skip();
      if (inner.type === 'ThisExpression') found = true;
    },
  });
  return found;
}

export function callsEval(tree: Program, globals: ReadonlySet<Node>): boolean {
  let found = false;
  walk(tree, {
    enter(node) {
      if (
        node.type === 'CallExpression' &&
        node.callee.type === 'Identifier' &&
        node.callee.name === 'eval' &&
        globals.has(node.callee)
      )
        found = true;
    },
  });
  return found;
}

/** Whether reading or writing a member of something may run code. `ofInstances`: a member of what a class makes. */
export function hasAccessors(node: Node, ofInstances = false): boolean {
  if (node.type === 'ClassExpression' || node.type === 'ClassDeclaration') {
    const isAccessor = (part: Class['body']['body'][number]) =>
      part.type === 'MethodDefinition' && (part.kind === 'get' || part.kind === 'set') && part.static !== ofInstances;
    return Boolean(node.superClass) || node.body.body.some(isAccessor);
  }
  return (
    node.type === 'ObjectExpression' &&
    node.properties.some(
      (member) => member.type === 'SpreadElement' || member.kind !== 'init' || keyOf(member.key as Node) === '__proto__',
    )
  );
}

/** The strings in `new URL('./x', import.meta.url)` or `import.meta.resolve('./x')`, or what makes them there. */
export function urlsIn(node: Node, parent: Node | null, text: string): Place[] {
  const first = urlArgument(node);
  if (!first) return [];
  const callee = (parent as { callee?: Spanned } | null)?.callee;
  const isWorker =
    callee !== undefined &&
    parent?.type === 'NewExpression' &&
    parent.arguments[0] === node &&
    /^(?:(?:self|window|globalThis)\s*\.\s*)?(?:Shared)?Worker$/.test(text.slice(callee.start, callee.end));
  return urlPlaces(first).map((place) => (place.kind === 'url' ? { ...place, isWorker } : place));
}

function urlArgument(node: Node): Node | undefined {
  if (node.type === 'NewExpression') {
    const [first, second] = node.arguments;
    const isUrl = node.callee.type === 'Identifier' && node.callee.name === 'URL' && node.arguments.length === 2;
    return isUrl && second && isOfMeta(second, 'url') ? first : undefined;
  }
  return node.type === 'CallExpression' && node.arguments.length === 1 && isOfMeta(node.callee, 'resolve')
    ? node.arguments[0]
    : undefined;
}

/** `import.meta.name`. */
function isOfMeta(node: Node, name: string): boolean {
  if (node.type !== 'MemberExpression' || node.computed || node.object.type !== 'MetaProperty') return false;
  return (node.property as Identifier).name === name;
}

/** The members of an object literal, or of an enumeration as TypeScript writes it, if nothing about them is computed. */
export function membersWritten(node: Spanned, isMarked: (node: Spanned) => boolean): Map<string, Node> | undefined {
  if (node.type === 'ObjectExpression') {
    const members = new Map<string, Node>();
    for (const member of node.properties) {
      if (member.type !== 'Property' || member.kind !== 'init' || member.computed || member.method) return undefined;
      const name = member.key.type === 'Identifier' ? member.key.name : String((member.key as { value?: unknown }).value);
      if (name === '__proto__') return undefined;
      members.set(name, member.value);
    }
    return members;
  }
  return node.type === 'CallExpression' && isMarked(node) ? enumMembers(node) : undefined;
}

/** `(function (Tide) { Tide[Tide['High'] = 1] = 'High'; Tide['Low'] = 'low'; return Tide; })({})`. */
function enumMembers({ callee, arguments: given }: Node & { type: 'CallExpression' }): Map<string, Node> | undefined {
  const [argument] = given;
  if (callee.type !== 'FunctionExpression' || argument?.type !== 'ObjectExpression' || argument.properties.length > 0)
    return undefined;
  const [parameter] = callee.params;
  if (parameter?.type !== 'Identifier') return undefined;
  const isOwn = (node: Node) => node.type === 'Identifier' && node.name === parameter.name;
  const members = new Map<string, Node>();
  const take = (node: Node): boolean => {
    if (node.type !== 'AssignmentExpression' || node.left.type !== 'MemberExpression' || !isOwn(node.left.object)) return false;
    const { property } = node.left;
    // The inner one gives the number its name.
    if (property.type === 'AssignmentExpression') return take(property);
    if (property.type !== 'Literal' || typeof property.value !== 'string') return false;
    members.set(property.value, node.right);
    return true;
  };
  for (const statement of callee.body.body) {
    if (statement.type === 'ReturnStatement' && statement.argument && isOwn(statement.argument)) continue;
    if (statement.type !== 'ExpressionStatement' || !take(statement.expression)) return undefined;
  }
  return members;
}

/** The `await`s of a module that stand in no function, in the order of the text. */
export function topLevelAwaits(tree: Program): Spanned[] {
  const found: Spanned[] = [];
  walk(tree, {
    enter(node) {
      if (/^(?:Function|ArrowFunction)/.test(node.type)) return this.skip();
      if (node.type === 'AwaitExpression') found.push(node as Spanned);
    },
  });
  return found;
}
