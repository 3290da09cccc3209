import { analyze, type Scope, type ScopeManager, type Variable } from 'eslint-scope';
import type { Node, Program } from 'estree';
import { walk } from 'estree-walker';
import { parseSync } from 'oxc-parser';
import { parentsOf } from '../link/tree.js';
import type { KeptNames } from './member.js';
import { isAnonymous } from './syntax.js';

/**
 * The names in a script that a program may see: those of functions that are used for more than to be called, and that they are not the
 * module's own top-level ones where `scope` is given. Classes keep theirs anyway.
 */
export function visibleNames(tree: Program, scopes: ScopeManager, parents: ReadonlyMap<Node, Node>, outer?: Scope): KeptNames {
  const kept: KeptNames = { functions: [], values: [] };
  const given = namesGiven(tree);
  for (const scope of scopes.scopes) {
    if (scope === outer || scope.type === 'global') continue;
    for (const [name, variable] of scope.set) {
      if (!isSeen(variable, scope, parents)) continue;
      if (variable.defs.some(({ type }) => type === 'FunctionName')) kept.functions.push(name);
      if (given.has(name)) kept.values.push(name);
    }
  }
  return kept;
}

/** The same of the text of a classic script. */
export function visibleNamesIn(text: string): KeptNames {
  const { program } = parseSync('script.cjs', text, { lang: 'js', sourceType: 'script', range: true, preserveParens: false });
  const tree = program as unknown as Program;
  const scopes = analyze(tree as never, { ecmaVersion: 2024, sourceType: 'script', fallback: 'iteration' } as never);
  return visibleNames(tree, scopes, parentsOf(tree));
}

/** Whether a function is used for more than to be called, so that somebody may look at its name. */
function isSeen(variable: Variable, scope: Scope, parents: ReadonlyMap<Node, Node>): boolean {
  // An expression is a value itself, unless it's called where it stands.
  if (scope.type === 'function-expression-name') {
    const parent = parents.get(scope.block as unknown as Node);
    const isCalled = parent?.type === 'CallExpression' && parent.callee === (scope.block as unknown as Node);
    if (!isCalled) return true;
  }
  return variable.references.some((reference) => reference.isRead() && !isCall(reference.identifier as unknown as Node, parents));
}

/** Whether a name stands where a function is called, and not made something new of. */
function isCall(node: Node, parents: ReadonlyMap<Node, Node>): boolean {
  const parent = parents.get(node);
  return (
    (parent?.type === 'CallExpression' && parent.callee === node) ||
    (parent?.type === 'TaggedTemplateExpression' && parent.tag === node)
  );
}

/** Names of variables that are given a function or class without a name. */
function namesGiven(tree: Program): Set<string> {
  const names = new Set<string>();
  walk(tree, {
    enter(node) {
      const [target, value] =
        node.type === 'VariableDeclarator'
          ? [node.id, node.init]
          : node.type === 'AssignmentExpression' || node.type === 'AssignmentPattern'
            ? [node.left, node.right]
            : [undefined, undefined];
      if (target?.type === 'Identifier' && value && isAnonymous(value)) names.add(target.name);
    },
  });
  return names;
}
