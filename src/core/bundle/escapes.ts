import type { Reference, ScopeManager } from 'eslint-scope';
import type { Node } from 'estree';
import { memberPath, usesOwnThis } from './syntax.js';

/** What is asked about how a value is used. */
export interface EscapeInput {
  scopes: ScopeManager;
  parents: ReadonlyMap<Node, Node>;
}

/**
 * Whether the value of a top-level name, a function, a class or a literal, may get accessors: it's handed to somebody, known by another
 * name, or `this` of what is called on it. `definition` is the node that declares the name.
 */
export function mayGetAccessors(references: readonly Reference[], definition: Node, { scopes, parents }: EscapeInput): boolean {
  const value = definition.type === 'VariableDeclarator' ? (definition.init ?? definition) : definition;
  // Classes, and functions that are expressions, know themselves by a name of their own.
  const inner = scopes.getDeclaredVariables(value as never).flatMap((variable) => variable.references);
  const nodes = [...references, ...inner].map(({ identifier }) => identifier as unknown as Node);
  return runsItself(value) || nodes.some((node) => escapes(node, value, parents));
}

/** Whether a class runs something with itself as `this` while it's made. */
function runsItself(value: Node): boolean {
  if (value.type !== 'ClassExpression' && value.type !== 'ClassDeclaration') return false;
  return value.body.body.some(
    (part) =>
      (part.type === 'StaticBlock' && usesOwnThis(part)) ||
      (part.type === 'PropertyDefinition' && part.static && part.value && usesOwnThis(part.value)),
  );
}

function escapes(node: Node, value: Node, parents: ReadonlyMap<Node, Node>): boolean {
  const parent = parents.get(node);
  switch (parent?.type) {
    case 'MemberExpression': {
      if (parent.object !== node) return true;
      const above = parents.get(parent);
      const isCalled =
        (above?.type === 'CallExpression' && above.callee === parent) ||
        (above?.type === 'TaggedTemplateExpression' && above.tag === parent) ||
        above?.type === 'ChainExpression';
      const member = memberPath(parent)?.[1];
      return (isCalled && !(/Function/.test(value.type) && ofFunctions.has(member ?? ''))) || member === '__proto__';
    }
    case 'CallExpression':
    case 'NewExpression':
      return parent.callee !== node;
    case 'BinaryExpression':
      return !/^(?:[!=]==?|in|instanceof)$/.test(parent.operator);
    case 'AssignmentExpression':
      // What it's replaced by is another matter.
      return parent.left !== node;
    case 'VariableDeclarator':
      return parent.id !== node;
    case 'ExportDefaultDeclaration':
    case 'UnaryExpression':
    case 'IfStatement':
    case 'ExportSpecifier':
    case 'ExpressionStatement':
    case 'FunctionDeclaration':
    case 'FunctionExpression':
    case 'ClassDeclaration':
    case 'ClassExpression':
      return false;
    case 'SpreadElement':
      return parents.get(parent)?.type === 'CallExpression' || parents.get(parent)?.type === 'NewExpression';
    default:
      return true;
  }
}

const ofFunctions = new Set(['call', 'apply', 'bind', 'toString', 'hasOwnProperty']);
