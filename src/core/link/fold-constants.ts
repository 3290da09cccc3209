import { analyze, type ScopeManager } from 'eslint-scope';
import type { Expression, Node, Program } from 'estree';
import type { Edit } from './edits.js';
import { eachNode, type Spanned } from './tree.js';

/**
 * Replaces names such as `VERSION` and member chains such as `process.env.NODE_ENV` by their values, in place and of the same
 * length where they fit; not where the module calls something of its own by the first name.
 */
export function foldConstants(
  tree: Program,
  constants: Readonly<Record<string, string>>,
  scopes: () => ScopeManager = () => scopesOf(tree),
): Edit[] {
  const chains = Object.keys(constants).map((chain) => chain.split('.'));
  const heads = new Set(chains.map(([head]) => head!));
  const ends = new Set(chains.map((chain) => chain.at(-1)!));
  /** What they begin with that the text may declare: only its scopes tell. */
  const declared = new Set<string>();
  const found: (Edit & { first: Node })[] = [];
  eachNode(tree, (node, parent) => {
    if (node.type !== 'MemberExpression' && node.type !== 'Identifier') return true;
    if (isKey(parent, node)) return true;
    if (node.type === 'Identifier' && heads.has(node.name) && mayDeclare(parent, node)) declared.add(node.name);
    const value = ends.has(endOf(node)) ? constantOf(node, constants) : undefined;
    if (value === undefined || isAssigned(node, parent)) return true;
    const { start, end } = node as Spanned;
    const isShorthand = parent?.type === 'Property' && parent.shorthand && node.type === 'Identifier';
    const shown = /^[-{]/.test(value) ? `(${value})` : value;
    const text = (isShorthand ? `${node.name}: ${shown}` : shown).padEnd(end - start);
    found.push({ start, end, text, first: firstOf(node) });
    // The name that it begins with stands in no declaration here.
    return false;
  });
  let globals: ReadonlySet<Node> | undefined;
  const isGlobal = (node: Node) => {
    if (node.type !== 'Identifier' || !declared.has(node.name)) return true;
    globals ??= globalNames(scopes());
    return globals.has(node);
  };
  return found.filter(({ first }) => isGlobal(first)).map(({ start, end, text }) => ({ start, end, text }));
}

/** Whether a node only says what a member is called: `any.VERSION`, `{ VERSION: 1 }`. */
function isKey(parent: Node | null, node: Node): boolean {
  if (parent?.type === 'MemberExpression') return parent.property === node && !parent.computed;
  if (parent?.type === 'Property') return parent.key === node && !parent.computed && !parent.shorthand;
  return (
    (parent?.type === 'MethodDefinition' || parent?.type === 'PropertyDefinition') && parent.key === node && !parent.computed
  );
}

/** The last name of a chain of members. */
function endOf(node: Node & { type: 'MemberExpression' | 'Identifier' }): string {
  if (node.type === 'Identifier') return node.name;
  const { property } = node;
  return property.type === 'Identifier' ? property.name : property.type === 'Literal' ? String(property.value) : '';
}

/** Whether a name may be declared where it stands in `parent`. Errs towards yes. */
function mayDeclare(parent: Node | null, node: Node): boolean {
  switch (parent?.type) {
    case 'MemberExpression':
    case 'UnaryExpression':
    case 'BinaryExpression':
    case 'LogicalExpression':
    case 'ConditionalExpression':
    case 'IfStatement':
    case 'CallExpression':
    case 'NewExpression':
    case 'ReturnStatement':
    case 'ExpressionStatement':
    case 'AssignmentExpression':
    case 'TemplateLiteral':
      return false;
    case 'VariableDeclarator':
      return parent.id === node;
    case 'ArrowFunctionExpression':
      return parent.body !== node;
    default:
      return true;
  }
}

/** Whether a text may hold one of the constants: all parts of it are there, however it's written. */
export function mayHoldConstants(text: string, constants: Readonly<Record<string, string>>): boolean {
  // A name may be written with escapes.
  if (text.includes('\\u')) return true;
  return Object.keys(constants).some((chain) => chain.split('.').every((part) => text.includes(part)));
}

/** The identifiers that name nothing the text declares. */
function globalNames(scopes: ScopeManager): Set<Node> {
  const free = scopes.globalScope?.through.map(({ identifier }) => identifier as unknown as Node) ?? [];
  return new Set(free);
}

function scopesOf(tree: Program): ScopeManager {
  const sourceType = (tree as { sourceType?: string }).sourceType === 'module' ? 'module' : 'commonjs';
  return analyze(tree as never, { ecmaVersion: 2024, sourceType, fallback: 'iteration' } as never);
}

function firstOf(node: Node): Node {
  return node.type === 'MemberExpression' ? firstOf(node.object as Node) : node;
}

function isAssigned(node: Node, parent: Node | null): boolean {
  if (parent?.type === 'AssignmentExpression') return parent.left === node;
  return parent?.type === 'UpdateExpression' || (parent?.type === 'UnaryExpression' && parent.operator === 'delete');
}

/** The source text of the constant that an expression is, if it is one. */
export function constantOf(node: Node, constants: Readonly<Record<string, string>>): string | undefined {
  const path = memberPath(node);
  return path !== undefined && Object.hasOwn(constants, path) ? constants[path] : undefined;
}

function memberPath(node: Node): string | undefined {
  if (node.type === 'Identifier') return node.name;
  if (node.type === 'MetaProperty') return `${node.meta.name}.${node.property.name}`;
  if (node.type !== 'MemberExpression') return undefined;
  const object = memberPath(node.object);
  if (object === undefined) return undefined;
  if (!node.computed && node.property.type === 'Identifier') return `${object}.${node.property.name}`;
  if (node.property.type === 'Literal' && typeof node.property.value === 'string') return `${object}.${node.property.value}`;
  return undefined;
}

/** A value known before anything runs, wrapped so that a known `undefined` differs from an unknown value. */
export interface Known {
  value: unknown;
}

/** What `typeof` says of names, wherever scripts run in browsers, and in pages. */
export const typesAnywhere: Record<string, string> = {
  self: 'object',
  process: 'undefined',
  define: 'undefined',
};
export const typesInPages: Record<string, string> = { ...typesAnywhere, window: 'object', document: 'object' };

/**
 * Evaluates the few kinds of tests by which packages choose between builds. `lookup` knows the values of names and members, `types` those of
 * `typeof` of global names.
 */
export function evaluate(
  node: Expression | Node,
  constants: Readonly<Record<string, string>>,
  lookup: (node: Node) => Known | undefined = () => undefined,
  types: Readonly<Record<string, string>> = typesInPages,
): Known | undefined {
  const valueIn = (inner: Expression | Node) => evaluate(inner, constants, lookup, types);
  switch (node.type) {
    case 'Literal':
      return 'regex' in node || 'bigint' in node ? undefined : { value: node.value };
    case 'Identifier':
      return node.name === 'undefined' ? { value: undefined } : lookup(node);
    case 'TemplateLiteral':
      return node.expressions.length === 0 ? { value: node.quasis[0]!.value.cooked } : undefined;
    case 'MemberExpression': {
      const text = constantOf(node, constants);
      if (text === undefined) return lookup(node);
      return text.startsWith('(') ? undefined : { value: JSON.parse(text) };
    }
    case 'UnaryExpression': {
      if (node.operator === 'typeof' && node.argument.type === 'Identifier') {
        const type = types[node.argument.name];
        return type === undefined ? undefined : { value: type };
      }
      const known = ['!', '-', 'void'].includes(node.operator) ? valueIn(node.argument) : undefined;
      if (!known) return undefined;
      if (node.operator === '!') return { value: !known.value };
      if (node.operator === 'void') return { value: undefined };
      return typeof known.value === 'number' ? { value: -known.value } : undefined;
    }
    case 'LogicalExpression': {
      const left = valueIn(node.left);
      if (!left) return undefined;
      if (node.operator === '&&') return left.value ? valueIn(node.right) : left;
      if (node.operator === '||') return left.value ? left : valueIn(node.right);
      return left.value == null ? valueIn(node.right) : left;
    }
    case 'ConditionalExpression': {
      const test = valueIn(node.test);
      return test && valueIn(test.value ? node.consequent : node.alternate);
    }
    case 'BinaryExpression': {
      const left = valueIn(node.left);
      const right = left && valueIn(node.right);
      if (!left || !right) return undefined;
      return compared(node.operator, left.value, right.value);
    }
    default:
      return undefined;
  }
}

/** What a binary operator gives for values that need no conversion; `undefined` for other operators and values. */
function compared(operator: string, left: unknown, right: unknown): Known | undefined {
  switch (operator) {
    case '===':
      return { value: left === right };
    case '!==':
      return { value: left !== right };
    case '==':
      // biome-ignore lint/suspicious/noDoubleEquals: this is what stands there
      return { value: left == right };
    case '!=':
      // biome-ignore lint/suspicious/noDoubleEquals: this is what stands there
      return { value: left != right };
  }
  if (typeof left === 'string' && typeof right === 'string' && operator === '+') return { value: left + right };
  if (typeof left !== 'number' || typeof right !== 'number') return undefined;
  if (operator === '<') return { value: left < right };
  if (operator === '>') return { value: left > right };
  if (operator === '<=') return { value: left <= right };
  return operator === '>=' ? { value: left >= right } : undefined;
}
