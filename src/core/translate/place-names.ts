import type { Class, Node, Program, PropertyDefinition } from 'estree';
import { walk } from 'estree-walker';
import MagicString from 'magic-string';
import { parseSync } from 'oxc-parser';
import type { Spanned } from '../link/tree.js';
import type { RawMap } from '../maps/raw-map.js';

type Parsed = Node & Spanned;

/**
 * Lets functions and classes without a name of their own keep the one that their place gives them (ECMA-262, NamedEvaluation), where a
 * translation to ECMAScript 2021 or earlier puts them in another place: classes with static or private members, and what is the value of
 * a field. `undefined` where nothing has to be added, or it can't be parsed.
 */
export function withNamesOfPlaces(
  text: string,
  lang: 'js' | 'jsx' | 'ts' | 'tsx',
  { ofFields, ofDecorated }: Wanted,
): Named | undefined {
  const mayHoldFields = /\bclass\b/.test(text) && (ofDecorated || (ofFields && anonymousField.test(text)));
  if (!anonymousClass.test(text) && !mayHoldFields) return undefined;
  const { program, errors } = parseSync(`module.${lang}`, text, {
    lang,
    sourceType: 'unambiguous' as 'module',
    preserveParens: false,
  });
  if (errors.length > 0) return undefined;
  const edited = new MagicString(text);
  walk(program as unknown as Program, {
    enter(node: Node, parent: Node | null) {
      if (ofDecorated && node.type === 'PropertyDefinition') wrapKey(node, edited);
      if (ofFields && node.type === 'PropertyDefinition' && !node.computed && node.value) {
        const { start, end } = withoutTypes(node.value) as Parsed;
        const name = isAnonymous(withoutTypes(node.value)) ? JSON.stringify(nameOfKey(node.key)) : undefined;
        if (name === undefined) return;
        const key = name === '"__proto__"' ? `[${name}]` : name;
        edited.appendLeft(start, `({${key}:`).appendRight(end, `})[${name}]`);
      }
      if ((node.type !== 'ClassExpression' && node.type !== 'ClassDeclaration') || node.id || !isTakenApart(node)) return;
      const naming = namingOf(node, nameByPlace(node, parent));
      edited.appendLeft((node.body as Parsed).start + 1, `static{${naming}}`);
    },
  });
  if (!edited.hasChanged()) return undefined;
  return { text: edited.toString(), map: edited.generateMap({ hires: 'boundary', source: 'source' }) as unknown as RawMap };
}

/** A text with names, and the map to the one without. */
export interface Named {
  text: string;
  map: RawMap;
}

/** What is wanted beside the names of classes. */
export interface Wanted {
  /** Names of functions that are values of fields. */
  ofFields: boolean;
  /** Literal names of fields with decorators, which the translator forgets where it takes fields apart: computed ones it keeps. */
  ofDecorated: boolean;
}

function wrapKey({ computed, key, ...rest }: PropertyDefinition, edited: MagicString): void {
  const { decorators = [] } = rest as { decorators?: unknown[] };
  if (computed || key.type !== 'Literal' || decorators.length === 0) return;
  const { start, end } = key as Parsed;
  // No literal, which the translator would forget even there.
  edited.appendLeft(start, typeof key.value === 'number' ? '[+' : '[""+').appendRight(end, ']');
}

/** Cheap signs. A false alarm costs a syntax tree. */
const anonymousClass = /\bclass\s*(?:\{|<|(?:extends|implements)\b)/;
const anonymousField = /=\s*\(*(?:async\b|function\b|<|\(|[\p{ID_Start}$_][\p{ID_Continue}$]*\s*=>)/u;

/** Whether the value of a field takes its name from there, and isn't a class that is given one anyway. */
function isAnonymous(value: Node): boolean {
  if (value.type === 'ArrowFunctionExpression') return true;
  if (value.type === 'FunctionExpression') return !value.id;
  return value.type === 'ClassExpression' && !value.id && !isTakenApart(value);
}

/** An expression without what TypeScript puts around it. */
function withoutTypes(node: Node): Node {
  const around = ['TSAsExpression', 'TSSatisfiesExpression', 'TSNonNullExpression', 'TSTypeAssertion'];
  return around.includes(node.type) ? withoutTypes((node as unknown as { expression: Node }).expression) : node;
}

/** Whether a class can't stay where it is, and leaves its name to the place. */
function isTakenApart({ body }: Class): boolean {
  const isApart = (member: Class['body']['body'][number]) =>
    member.type === 'StaticBlock' ||
    (member.type as string) === 'AccessorProperty' ||
    member.key.type === 'PrivateIdentifier' ||
    (member.type === 'PropertyDefinition' && member.static);
  return body.body.some(isApart) && !body.body.some((member) => staticMethodIs(member, 'name'));
}

function staticMethodIs(member: Class['body']['body'][number], name: string): boolean {
  if (member.type !== 'MethodDefinition' || !member.static || member.computed) return false;
  return nameOfKey(member.key) === name;
}

/** What names a class, before anything else of it runs; a static method whose name is not known yet may have that one. */
function namingOf({ body }: Class, name: string): string {
  const naming = `Object.defineProperty(this,"name",{value:${JSON.stringify(name)},configurable:true})`;
  const mayHave = body.body.some((member) => member.type === 'MethodDefinition' && member.static && member.computed);
  return mayHave ? `typeof Object.getOwnPropertyDescriptor(this,"name")?.value==="string"&&${naming}` : naming;
}

/** The name that an anonymous class gets of where it stands. */
function nameByPlace(node: Node, parent: Node | null): string {
  switch (parent?.type) {
    case 'ExportDefaultDeclaration':
      return 'default';
    case 'VariableDeclarator':
      return nameOf(parent.id);
    case 'AssignmentPattern':
      return parent.right === node ? nameOf(parent.left) : '';
    case 'AssignmentExpression':
      return parent.right === node && /^(?:|\?\?|\|\||&&)=$/.test(parent.operator) ? nameOf(parent.left) : '';
    case 'Property':
    case 'PropertyDefinition':
      if (parent.value !== node || parent.computed) return '';
      return nameOfKey(parent.key);
    default:
      return '';
  }
}

function nameOfKey(key: Node): string {
  return key.type === 'Literal' ? String(key.value) : nameOf(key);
}

function nameOf(node: Node): string {
  if (node.type === 'PrivateIdentifier') return `#${node.name}`;
  return node.type === 'Identifier' ? node.name : '';
}
