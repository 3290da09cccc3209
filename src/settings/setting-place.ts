import type { Expression, Node, ObjectExpression, Program, Property } from 'estree';
import { parseSync } from 'oxc-parser';
import type { Span } from '../core/documents/read-page.js';
import { mayBeTooDeep, writtenIn } from '../core/translate/nesting.js';

type Placed<T> = T & Span;

/**
 * Where a setting stands in a settings file, or the nearest that it's part of; `undefined` where the file's form doesn't tell, e.g.
 * because a function makes it. `isKey`: the key itself is meant and not its value.
 */
export function placeOfSetting(file: string, text: string, path: readonly PropertyKey[], isKey = false): Span | undefined {
  if (mayBeTooDeep(text, writtenIn(file, text))) return undefined;
  const isJson = file.endsWith('.json');
  // An object at the start of a statement would be a block.
  const source = isJson ? `(${text})` : text;
  const { program, errors } = parseSync(isJson ? 'settings.js' : file, source, { range: true, preserveParens: false });
  if (errors.length > 0) return undefined;
  const tree = program as unknown as Program;
  let at: Node | undefined = isJson ? firstExpression(tree) : defaultExport(tree);
  let found: Span | undefined;
  for (const [index, key] of path.entries()) {
    const inside: Node | undefined = at && expressionOf(at, tree);
    if (inside?.type === 'ArrayExpression') {
      at = inside.elements[Number(key)] ?? undefined;
      if (at) found = placeOf(at);
      continue;
    }
    const property: (Property & { value: Expression }) | undefined =
      inside?.type === 'ObjectExpression' ? propertyOf(inside, String(key)) : undefined;
    if (!property) break;
    at = property.value;
    found = placeOf(isKey && index === path.length - 1 ? property.key : property.value);
  }
  if (!found) return undefined;
  return isJson ? { start: found.start - 1, end: found.end - 1 } : found;
}

function firstExpression({ body }: Program): Node | undefined {
  const [statement] = body;
  return statement?.type === 'ExpressionStatement' ? statement.expression : undefined;
}

function defaultExport({ body }: Program): Node | undefined {
  return body.find((statement) => statement.type === 'ExportDefaultDeclaration')?.declaration as Node | undefined;
}

/** What an expression comes to, without types around it and through a variable of the file. */
function expressionOf(node: Node, tree: Program): Node | undefined {
  const wrapped = node as unknown as { type: string; expression?: Node };
  if (/^TS(?:As|Satisfies|NonNull|TypeAssertion)/.test(wrapped.type) && wrapped.expression)
    return expressionOf(wrapped.expression, tree);
  if (node.type !== 'Identifier') return node;
  for (const statement of tree.body) {
    const declaration = statement.type === 'ExportNamedDeclaration' ? statement.declaration : statement;
    if (declaration?.type !== 'VariableDeclaration') continue;
    const found = declaration.declarations.find(({ id }) => id.type === 'Identifier' && id.name === node.name);
    if (found?.init) return expressionOf(found.init, tree);
  }
  return undefined;
}

function propertyOf({ properties }: ObjectExpression, name: string): (Property & { value: Expression }) | undefined {
  return properties.findLast((property) => property.type === 'Property' && !property.computed && nameOf(property.key) === name) as
    | (Property & { value: Expression })
    | undefined;
}

function nameOf(key: Node): string | undefined {
  if (key.type === 'Identifier') return key.name;
  return key.type === 'Literal' ? String(key.value) : undefined;
}

function placeOf(node: Node): Span {
  const { start, end } = node as Placed<Node>;
  return { start, end };
}
