import type {
  ArrowFunctionExpression,
  AssignmentExpression,
  CallExpression,
  Class,
  Expression,
  FunctionExpression,
  Identifier,
  NewExpression,
  Node,
  Pattern,
  Property,
  SpreadElement,
  Super,
} from 'estree';
import type { Spanned } from '../link/tree.js';
import type { Effect } from './member.js';
import { hasAccessors } from './syntax.js';

/** What the scan needs to know of the module around. */
export interface EffectContext {
  /** Names that mean something of the global scope. */
  isGlobal(node: Node): boolean;
  isImport(name: string): boolean;
  /** Whether a name is the module's own and not that of a function around it. */
  isTop(node: Identifier): boolean;
  /** Top-level names whose members may be read without harm: functions, classes, literals. */
  isPlain(node: Identifier): boolean;
  /** Whether a top-level variable may not be there yet where it is read. */
  isEarly(node: Node, name: string): boolean;
  /** Whether a call is marked as one that only gives a value. */
  isMarked(node: Node): boolean;
}

/**
 * The places of a statement or expression that may do more than give a value when it runs. What stands in functions doesn't run.
 * Errs towards more: what isn't known to be harmless is listed.
 */
export function effectsOf(node: Node, context: EffectContext): Effect[] {
  const effects: Effect[] = [];
  new Scan(context, effects).visit(node);
  return effects;
}

class Scan {
  readonly #context: EffectContext;
  readonly #effects: Effect[];
  /** Names in functions that are run where they stand, which are theirs alone. */
  readonly #locals = new Set<string>();

  constructor(context: EffectContext, effects: Effect[]) {
    this.#context = context;
    this.#effects = effects;
  }

  #add(node: Node, more: Omit<Effect, 'at'> = {}): void {
    this.#effects.push({ at: (node as Spanned).start, ...more });
  }

  #each(nodes: Iterable<Node | null | undefined>): void {
    for (const node of nodes) if (node) this.visit(node);
  }

  visit(node: Node): void {
    switch (node.type) {
      case 'Literal':
      case 'FunctionExpression':
      case 'ArrowFunctionExpression':
      case 'FunctionDeclaration':
      case 'ThisExpression':
      case 'MetaProperty':
      case 'EmptyStatement':
        return;
      case 'Identifier':
        return this.#name(node);
      case 'TemplateLiteral':
        for (const part of node.expressions) isPrimitive(part) ? this.visit(part) : this.#add(part);
        return;
      case 'ArrayExpression':
        for (const element of node.elements) {
          if (element?.type !== 'SpreadElement') this.#each([element]);
          else if (element.argument.type === 'ArrayExpression') this.visit(element.argument);
          else this.#add(element);
        }
        return;
      case 'ObjectExpression':
        for (const member of node.properties) this.#member(member);
        return;
      case 'ClassExpression':
      case 'ClassDeclaration':
        return this.#class(node);
      case 'UnaryExpression':
        if (node.operator === 'delete') return this.#add(node);
        if (node.operator === 'typeof' && node.argument.type === 'Identifier' && this.#context.isGlobal(node.argument)) return;
        if (['-', '+', '~'].includes(node.operator) && !isPrimitive(node.argument)) this.#add(node);
        return this.visit(node.argument);
      case 'BinaryExpression':
        if (!['===', '!=='].includes(node.operator) && !(isPrimitive(node.left as Expression) && isPrimitive(node.right)))
          this.#add(node);
        return this.#each([node.left, node.right]);
      case 'LogicalExpression':
        return this.#each([node.left, node.right]);
      case 'ConditionalExpression':
      case 'IfStatement':
        return this.#each([node.test, node.consequent, node.alternate]);
      case 'SequenceExpression':
        return this.#each(node.expressions);
      case 'ChainExpression':
      case 'ExpressionStatement':
        return this.visit(node.expression);
      case 'BlockStatement':
        return this.#each(node.body);
      case 'ReturnStatement':
        return this.#each([node.argument]);
      case 'AssignmentExpression':
        return this.#assignment(node);
      case 'VariableDeclaration':
        for (const { id, init } of node.declarations) {
          if (id.type !== 'Identifier') this.#add(id);
          this.#each([init]);
        }
        return;
      case 'MemberExpression':
        return this.#read(node);
      case 'CallExpression':
      case 'NewExpression':
        return this.#call(node);
      default:
        this.#add(node);
    }
  }

  #name(node: Node & { type: 'Identifier' }): void {
    const { isGlobal, isImport, isEarly } = this.#context;
    if (isGlobal(node)) {
      if (!harmlessGlobals.has(node.name)) this.#add(node);
    } else if (isImport(node.name)) this.#add(node, { read: node.name });
    else if (isEarly(node, node.name)) this.#add(node);
  }

  #member(member: Property | SpreadElement): void {
    if (member.type === 'SpreadElement') {
      if (member.argument.type === 'ObjectExpression') this.visit(member.argument);
      else this.#add(member);
      return;
    }
    this.#key(member);
    this.visit(member.value);
  }

  #key({ computed, key }: { computed: boolean; key: Node }): void {
    if (!computed) return;
    if (isPrimitive(key as Expression) || isKnownMember(key, this.#context)) this.visit(key);
    else this.#add(key);
  }

  #class(node: Class): void {
    const { superClass } = node;
    const isNamed = superClass?.type === 'Identifier' || superClass?.type === 'MemberExpression';
    if (superClass && !(isNamed && firstName(superClass))) this.visit(superClass);
    else if (superClass?.type === 'Identifier') this.#name(superClass);
    if ((node as { decorators?: unknown[] }).decorators?.length) this.#add(node as Node);
    for (const part of node.body.body) {
      if ((part as { decorators?: unknown[] }).decorators?.length) this.#add(part);
      if (part.type === 'StaticBlock') {
        if (part.body.length > 0) this.#add(part);
        continue;
      }
      this.#key(part);
      if (part.type === 'PropertyDefinition' && part.static) this.#each([part.value]);
    }
  }

  #read(node: Node & { type: 'MemberExpression' }): void {
    const { object } = node;
    const first = firstName(node);
    const isMeta = object.type === 'MetaProperty';
    const isPlain = object.type === 'Identifier' && !this.#context.isGlobal(object) && this.#context.isPlain(object);
    if (isMeta || (isKnownMember(node, this.#context) && first)) return;
    if (!isPlain) this.#add(node);
    else if (object.type === 'Identifier') this.#name(object);
    this.#key({ computed: node.computed, key: node.property });
  }

  #call(node: CallExpression | NewExpression): void {
    const { callee } = node;
    if (this.#context.isMarked(node)) return this.#arguments(node);
    const path = globalPath(callee, this.#context);
    if (path !== undefined && isHarmlessCall(path, node)) return this.#arguments(node);
    const isFunction = callee.type === 'FunctionExpression' || callee.type === 'ArrowFunctionExpression';
    if (isFunction && node.type === 'CallExpression' && !callee.async && !callee.generator) return this.#atOnce(callee, node);
    if (callee.type === 'Identifier' && !this.#context.isGlobal(callee)) {
      this.#add(node, this.#context.isTop(callee) ? { callee: callee.name } : {});
      this.#name(callee);
      return this.#arguments(node);
    }
    this.#add(node);
  }

  /** A function that is called where it stands: its body runs, and may do what it likes with what it makes itself. */
  #atOnce(callee: FunctionExpression | ArrowFunctionExpression, node: CallExpression): void {
    this.#arguments(node);
    if (callee.params.some(({ type }) => type !== 'Identifier')) return this.#add(node);
    if (callee.body.type !== 'BlockStatement') return this.visit(callee.body);
    if (callee.type === 'FunctionExpression' && callee.id) this.#locals.add(callee.id.name);
    for (const statement of callee.body.body) {
      if (statement.type === 'FunctionDeclaration') this.#locals.add(statement.id.name);
      if (statement.type !== 'VariableDeclaration') continue;
      for (const { id, init } of statement.declarations)
        if (id.type === 'Identifier' && init && isLiteral.has(init.type) && !hasAccessors(init)) this.#locals.add(id.name);
    }
    for (const statement of callee.body.body) {
      if (inFunctions.has(statement.type)) this.visit(statement);
      else this.#add(statement);
    }
  }

  /** Something of a function's own may get members; everything else that is assigned is somebody's. */
  #assignment(node: AssignmentExpression): void {
    const { left, right, operator } = node;
    const isOwn = left.type === 'MemberExpression' && left.object.type === 'Identifier' && this.#locals.has(left.object.name);
    if (!isOwn || operator !== '=') return this.#add(node);
    this.#key({ computed: left.computed, key: left.property });
    this.visit(right);
  }

  #arguments(node: CallExpression | NewExpression): void {
    for (const argument of node.arguments) argument.type === 'SpreadElement' ? this.#add(argument) : this.visit(argument);
  }
}

/** Whether an expression gives a string, a number or the like, so that nothing is called to make one of it. */
export function isPrimitive(node: Expression | Node): boolean {
  switch (node.type) {
    case 'Literal':
      return !('regex' in node);
    case 'TemplateLiteral':
      return true;
    case 'UnaryExpression':
      return node.operator !== 'delete';
    case 'BinaryExpression':
      return true;
    case 'ConditionalExpression':
      return isPrimitive(node.consequent) && isPrimitive(node.alternate);
    case 'LogicalExpression':
      return isPrimitive(node.left) && isPrimitive(node.right);
    default:
      return false;
  }
}

/** The name that a chain of members begins with. */
function firstName(node: Node | Super): string | undefined {
  if (node.type === 'Identifier') return node.name;
  return node.type === 'MemberExpression' && !node.computed ? firstName(node.object) : undefined;
}

/** `Object.create` as a text, where `Object` is the global one. */
function globalPath(node: Node | Super | Pattern, context: EffectContext): string | undefined {
  if (node.type === 'Identifier') return context.isGlobal(node) ? node.name : undefined;
  if (node.type !== 'MemberExpression' || node.computed || node.property.type !== 'Identifier') return undefined;
  const object = globalPath(node.object, context);
  return object === undefined ? undefined : `${object}.${node.property.name}`;
}

function isKnownMember(node: Node, context: EffectContext): boolean {
  const path = globalPath(node, context);
  return (
    path !== undefined &&
    /^(?:Math|Symbol|Number|Object|Array|String|Function|Promise|Reflect|JSON|Date|RegExp|Map|Set|WeakMap|WeakSet|Error|Intl|BigInt|Boolean|Atomics|ArrayBuffer|Uint8Array|URL)\.\w+(?:\.\w+)?$/.test(
      path,
    ) &&
    path.split('.').length <= (path.includes('.prototype.') ? 3 : 2)
  );
}

const harmlessGlobals = new Set(
  'undefined NaN Infinity Object Array String Number Boolean Symbol Function Math JSON Reflect Promise Date RegExp Map Set WeakMap WeakSet WeakRef Proxy Error TypeError RangeError SyntaxError ReferenceError EvalError URIError BigInt Intl ArrayBuffer DataView Int8Array Uint8Array Uint8ClampedArray Int16Array Uint16Array Int32Array Uint32Array Float32Array Float64Array BigInt64Array BigUint64Array globalThis isNaN isFinite parseInt parseFloat encodeURIComponent decodeURIComponent encodeURI decodeURI'.split(
    ' ',
  ),
);

const plainCalls = new Set(
  'Symbol Symbol.for String Number Boolean isNaN isFinite parseInt parseFloat Number.isInteger Number.isFinite Number.isNaN Number.parseFloat Number.parseInt Array.isArray Array.of String.fromCharCode Date.now Date.UTC Object.is'.split(
    ' ',
  ),
);
const literalCalls = new Set(
  'Object.freeze Object.seal Object.preventExtensions Object.keys Object.values Object.entries Array.from Object.assign'.split(
    ' ',
  ),
);
const plainNew = new Set(
  'Map Set WeakMap WeakSet Array Object Date Error TypeError RangeError EvalError EventTarget AbortController TextEncoder TextDecoder'.split(
    ' ',
  ),
);

/** Calls of what every browser has that do nothing but give a new value. */
function isHarmlessCall(path: string, { type, arguments: given }: CallExpression | NewExpression): boolean {
  const arePrimitive = given.every((argument) => argument.type !== 'SpreadElement' && isPrimitive(argument));
  const areLiteral = given.every(({ type }) => isLiteral.has(type));
  if (type === 'NewExpression') {
    if (/^(?:Weak)?(?:Map|Set)$/.test(path)) return given.length === 0 || isListFor(path, given[0]!);
    return plainNew.has(path) && arePrimitive && path !== 'Array' ? true : path === 'Array' && given.length === 0;
  }
  if (path.startsWith('Math.')) return arePrimitive;
  if (path === 'Object.create') return given.length === 1 && (isNull(given[0]!) || areLiteral || isPrototype(given[0]!));
  if (path === 'Boolean' || path === 'Array.isArray' || path === 'Object.is') return true;
  if (literalCalls.has(path)) return areLiteral && given.length > 0;
  return plainCalls.has(path) && (arePrimitive || path === 'Array.of');
}

function isPrototype(node: Node): boolean {
  return node.type === 'MemberExpression' && !node.computed && (node.property as Identifier).name === 'prototype';
}

const inFunctions = new Set([
  'FunctionDeclaration',
  'VariableDeclaration',
  'ExpressionStatement',
  'ReturnStatement',
  'IfStatement',
  'BlockStatement',
  'EmptyStatement',
]);

const isLiteral = new Set([
  'ObjectExpression',
  'ArrayExpression',
  'FunctionExpression',
  'ArrowFunctionExpression',
  'ClassExpression',
]);

/** `[a, b]` for a set, `[[a, b]]` for a map. Weak ones refuse some values. */
function isListFor(path: string, node: Node): boolean {
  if (node.type !== 'ArrayExpression') return false;
  if (path === 'Map') return node.elements.every((element) => element?.type === 'ArrayExpression');
  return path === 'Set' && node.elements.every((element) => element?.type !== 'SpreadElement');
}

function isNull(node: Node): boolean {
  return node.type === 'Literal' && node.value === null;
}
