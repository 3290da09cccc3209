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
  const scopes = new Map<Node, Declared>();
  return nodes.some((node) => {
    const target = targetOf(node);
    return target !== undefined && writtenIn(target).some((name) => names.has(name) && !isHidden(node, name, parents, scopes));
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
function isHidden(node: Node, name: string, parents: ReadonlyMap<Node, Node>, scopes: Map<Node, Declared>): boolean {
  /** A `var` was found, which a function around it makes its own. */
  let isHoisted = false;
  for (let at: Node | undefined = node; at && at.type !== 'Program'; at = parents.get(at)) {
    if (!scopeTypes.test(at.type)) continue;
    const known = scopes.get(at) ?? declaredBy(at);
    scopes.set(at, known);
    if (known.own.has(name) || (isHoisted && known.isFunction)) return true;
    if (known.hoisted.has(name)) isHoisted = true;
  }
  return false;
}

/** The names that a node declares for what is in it. */
interface Declared {
  isFunction: boolean;
  own: Set<string>;
  /** Those by `var`. */
  hoisted: Set<string>;
}

const scopeTypes =
  /^(?:Function(?:Declaration|Expression)|ArrowFunctionExpression|CatchClause|BlockStatement|StaticBlock|For(?:In|Of)?Statement)$/;

function declaredBy(node: Node): Declared {
  const declared: Declared = { isFunction: 'params' in node, own: new Set(), hoisted: new Set() };
  const params = 'params' in node ? node.params : node.type === 'CatchClause' && node.param ? [node.param] : [];
  for (const param of params) for (const name of declaredIn(param)) declared.own.add(name);
  for (const statement of declarationsOf(node)) {
    if (statement.type === 'VariableDeclaration') {
      const names = statement.kind === 'var' ? declared.hoisted : declared.own;
      for (const { id } of statement.declarations) for (const name of declaredIn(id)) names.add(name);
    } else if ((statement.type === 'FunctionDeclaration' || statement.type === 'ClassDeclaration') && statement.id)
      declared.own.add(statement.id.name);
  }
  return declared;
}

/** The statements among which a node's own declarations are. */
function declarationsOf(node: Node): readonly Node[] {
  if (node.type === 'BlockStatement' || node.type === 'StaticBlock') return node.body;
  if (node.type === 'ForStatement') return node.init ? [node.init] : [];
  if (node.type === 'ForInStatement' || node.type === 'ForOfStatement') return [node.left];
  return [];
}
