import type { Node } from 'estree';
import { declaredIn } from './declared-names.js';
import type { TreeIndex } from './tree.js';

/** Types of the nodes that write to what they name. */
export const writingTypes: ReadonlySet<string> = new Set([
  'AssignmentExpression',
  'UpdateExpression',
  'ForInStatement',
  'ForOfStatement',
]);

/**
 * Whether a write to one of `names` may reach the module's own variable: `false` where each is certainly to a parameter or a variable
 * of a function or block around it. Declarations don't count. Errs towards yes, and makes no scopes.
 */
export function mayWrite({ nodes, parents }: TreeIndex, names: ReadonlySet<string>): boolean {
  return nodes.some((node) => {
    const target = targetOf(node);
    return target !== undefined && writtenIn(target).some((name) => names.has(name) && !isHidden(node, name, parents));
  });
}

function targetOf(node: Node): Node | undefined {
  if (node.type === 'UpdateExpression') return node.argument;
  if (node.type === 'AssignmentExpression') return node.left;
  if (node.type !== 'ForInStatement' && node.type !== 'ForOfStatement') return undefined;
  return node.left.type === 'VariableDeclaration' ? undefined : node.left;
}

/** The names that are written in a target. Members of something are none. */
function writtenIn(target: Node): string[] {
  return target.type === 'MemberExpression' ? [] : declaredIn(target);
}

/** Whether a scope around a node, below the module's, certainly declares a name. */
function isHidden(node: Node, name: string, parents: ReadonlyMap<Node, Node>): boolean {
  /** A `var` was found, which a function around it makes its own. */
  let isHoisted = false;
  for (let at: Node | undefined = node; at && at.type !== 'Program'; at = parents.get(at)) {
    if (at.type === 'FunctionDeclaration' || at.type === 'FunctionExpression' || at.type === 'ArrowFunctionExpression') {
      if (isHoisted || at.params.some((param) => declaredIn(param).includes(name))) return true;
      continue;
    }
    if (at.type === 'CatchClause' && at.param && declaredIn(at.param).includes(name)) return true;
    for (const declaration of declarationsOf(at)) {
      if (declaration.type === 'VariableDeclaration') {
        if (!declaration.declarations.some(({ id }) => declaredIn(id).includes(name))) continue;
        if (declaration.kind !== 'var') return true;
        isHoisted = true;
      } else if (
        (declaration.type === 'FunctionDeclaration' || declaration.type === 'ClassDeclaration') &&
        declaration.id?.name === name
      )
        return true;
    }
  }
  return false;
}

/** The statements among which a node's own declarations are. */
function declarationsOf(node: Node): readonly Node[] {
  if (node.type === 'BlockStatement' || node.type === 'StaticBlock') return node.body;
  if (node.type === 'ForStatement') return node.init ? [node.init] : [];
  if (node.type === 'ForInStatement' || node.type === 'ForOfStatement') return [node.left];
  return [];
}
