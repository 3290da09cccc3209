import type { CallExpression, Expression, Identifier, Literal, NewExpression, Node, ObjectExpression, Property } from 'estree';
import { isPrimitive, mayBeBigInt } from './primitives.js';
import { hasAccessors } from './syntax.js';

/** Names of what every browser has, which may be read. */
export const harmlessGlobals = new Set(
  'undefined NaN Infinity Object Array String Number Boolean Symbol Function Math JSON Reflect Promise Date RegExp Map Set WeakMap WeakSet WeakRef Proxy Error TypeError RangeError SyntaxError ReferenceError EvalError URIError BigInt Intl ArrayBuffer DataView Int8Array Uint8Array Uint8ClampedArray Int16Array Uint16Array Int32Array Uint32Array Float32Array Float64Array BigInt64Array BigUint64Array globalThis isNaN isFinite parseInt parseFloat encodeURIComponent decodeURIComponent encodeURI decodeURI'.split(
    ' ',
  ),
);

/** `Math.PI`, `Array.prototype.map`: what is there everywhere and may be read without harm. */
export function isBuiltInMember(path: string): boolean {
  return (
    /^(?:Math|Symbol|Number|Object|Array|String|Function|Promise|Reflect|JSON|Date|RegExp|Map|Set|WeakMap|WeakSet|Error|Intl|BigInt|Boolean|Atomics|ArrayBuffer|Uint8Array|URL)\.\w+(?:\.\w+)?$/.test(
      path,
    ) &&
    path.split('.').length <= (path.includes('.prototype.') ? 3 : 2) &&
    !isGetter(path)
  );
}

/** Whether a member of what is there everywhere is made when it's read, which a prototype refuses. */
function isGetter(path: string): boolean {
  const [first, ...rest] = path.split('.');
  const last = rest.pop()!;
  const owner = rest.reduce<unknown>((value, name) => Object(value)[name], Object(globalThis)[first!]);
  const isRefused = last === 'caller' || last === 'arguments';
  return isRefused || (rest.length > 0 && Object.getOwnPropertyDescriptor(Object(owner), last)?.get !== undefined);
}

const plainCalls = new Set(
  'Symbol Symbol.for String Number Boolean isNaN isFinite parseInt parseFloat Number.isInteger Number.isFinite Number.isNaN Number.parseFloat Number.parseInt Array.isArray Array.of String.fromCharCode Date.now Date.UTC Object.is'.split(
    ' ',
  ),
);
const literalCalls = new Set(
  'Object.freeze Object.seal Object.preventExtensions Object.keys Object.values Object.entries'.split(' '),
);
const plainNew = new Set(
  'Map Set WeakMap WeakSet Array Object Date Error TypeError RangeError EvalError EventTarget AbortController TextEncoder'.split(
    ' ',
  ),
);

/** Calls of what every browser has that do nothing but give a new value. */
export function isHarmlessCall(path: string, { type, arguments: given }: CallExpression | NewExpression): boolean {
  const arePrimitive = given.every((argument) => isPrimitive(argument) && !mayBeBigInt(argument));
  const areLiteral = given.every(({ type }) => isLiteral.has(type));
  if (type === 'NewExpression') {
    if (/^(?:Weak)?(?:Map|Set)$/.test(path)) return given.length === 0 || isListFor(path, given[0]!);
    if (path === 'TextDecoder') return given.length === 0;
    return plainNew.has(path) && arePrimitive && path !== 'Array' ? true : path === 'Array' && given.length === 0;
  }
  if (path.startsWith('Math.')) return arePrimitive;
  if (path === 'Object.create') return given.length === 1 && (isNull(given[0]!) || areLiteral || isPrototype(given[0]!));
  if (path === 'Boolean' || path === 'Array.isArray' || path === 'Object.is') return true;
  if (path === 'Object.assign') return areLiteral && given.length > 0 && canBeJoined(given as Expression[]);
  if (path === 'Array.from') return given.length === 1 && isListLike(given[0]!);
  if (!literalCalls.has(path)) return plainCalls.has(path) && (arePrimitive || path === 'Array.of');
  const isRead = path === 'Object.values' || path === 'Object.entries';
  return areLiteral && given.length > 0 && !(isRead && given.some((argument) => hasAccessors(argument)));
}

function isPrototype(node: Node): boolean {
  return node.type === 'MemberExpression' && !node.computed && (node.property as Identifier).name === 'prototype';
}

/** What makes a value of its own. */
export const isLiteral = new Set([
  'ObjectExpression',
  'ArrayExpression',
  'FunctionExpression',
  'ArrowFunctionExpression',
  'ClassExpression',
]);

/** What is given to `Object.assign`: members of objects, which neither run code nor are refused by a function. */
function canBeJoined([target, ...sources]: Expression[]): boolean {
  const isFree = ({ computed, key }: Property) =>
    !computed && !fixedMembers.has((key as Identifier).name ?? String((key as Literal).value));
  return (
    !hasAccessors(target!) &&
    target!.type !== 'ArrayExpression' &&
    sources.every((source) => source.type === 'ObjectExpression' && !hasAccessors(source)) &&
    (target!.type === 'ObjectExpression' ||
      sources.every((source) => (source as ObjectExpression).properties.every((member) => isFree(member as Property))))
  );
}

const fixedMembers = new Set(['name', 'length', 'prototype', 'caller', 'arguments']);

/** `[a, b]`, `{ length: 3 }`. */
function isListLike(node: Node): boolean {
  if (node.type === 'ArrayExpression') return true;
  return (
    node.type === 'ObjectExpression' &&
    node.properties.every(
      (member) =>
        member.type === 'Property' &&
        !member.computed &&
        member.kind === 'init' &&
        member.value.type === 'Literal' &&
        Number(member.value.value) < 1_000_000,
    )
  );
}

/** `[a, b]` for a set, `[[a, b]]` for a map. Weak ones refuse some values. */
function isListFor(path: string, node: Node): boolean {
  if (node.type !== 'ArrayExpression') return false;
  if (path === 'Map') return node.elements.every((element) => element?.type === 'ArrayExpression');
  return path === 'Set' && node.elements.every((element) => element?.type !== 'SpreadElement');
}

function isNull(node: Node): boolean {
  return node.type === 'Literal' && node.value === null;
}
