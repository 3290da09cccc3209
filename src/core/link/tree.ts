import type { Node, Program } from 'estree';
import { visitorKeys } from 'oxc-parser';

/** A node with its offsets, as the parser gives them. */
export type Spanned<T extends Node = Node> = T & { start: number; end: number };

export function parentsOf(tree: Program): Map<Node, Node> {
  return indexTree(tree, new Set()).parents;
}

/** What one walk finds in a tree. */
export interface TreeIndex {
  parents: Map<Node, Node>;
  /** Nodes of the types that were asked for, outer ones first, in the order of the text. */
  nodes: Node[];
}

/**
 * Walks a tree once for all that is asked of it, and gives it the ranges that scopes are found by, which the parser would write
 * for every node.
 */
export function indexTree(tree: Program, types: ReadonlySet<string>): TreeIndex {
  const parents = new Map<Node, Node>();
  const nodes: Node[] = [];
  const visit = (node: Node, parent: Node | undefined) => {
    if (parent) parents.set(node, parent);
    const { type } = node;
    if (type === 'Identifier') withRange(node);
    if (types.has(type)) nodes.push(node);
    const keys = visitorKeys[type] ?? otherKeys(node);
    for (let index = 0; index < keys.length; index++) {
      const value = (node as unknown as Record<string, Node | (Node | null)[] | null | undefined>)[keys[index]!];
      if (!value) continue;
      if (Array.isArray(value)) {
        for (const inner of value) if (inner) visit(inner, node);
      } else visit(value, node);
    }
    if (functionTypes.has(type)) withRange((node as unknown as { body: Node }).body);
  };
  visit(tree, undefined);
  return { parents, nodes };
}

const functionTypes = new Set(['FunctionDeclaration', 'FunctionExpression', 'ArrowFunctionExpression']);

function withRange(node: Node): void {
  const { start, end } = node as Spanned;
  node.range = [start, end];
}

/** Where a node holds others, for a type that nobody listed. */
function otherKeys(node: Node): string[] {
  return Object.entries(node).flatMap(([key, value]) => {
    const first = Array.isArray(value) ? value.find((inner) => inner) : value;
    return typeof (first as { type?: unknown } | null)?.type === 'string' ? [key] : [];
  });
}
