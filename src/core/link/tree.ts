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
  const visit = (node: Node) => {
    const { type } = node;
    const { keys, isIdentifier, isFunction } = shapes.get(type) ?? shapeOf(node);
    if (isIdentifier) withRange(node);
    if (types.has(type)) nodes.push(node);
    if (keys)
      for (let index = 0; index < keys.length; index++) {
        const value = (node as unknown as Record<string, Node | (Node | null)[] | null | undefined>)[keys[index]!];
        if (!value) continue;
        if (Array.isArray(value)) {
          for (let at = 0; at < value.length; at++) {
            const inner = value[at];
            if (!inner) continue;
            parents.set(inner, node);
            visit(inner);
          }
        } else {
          parents.set(value, node);
          visit(value);
        }
      }
    if (isFunction) withRange((node as unknown as { body: Node }).body);
  };
  visit(tree);
  return { parents, nodes };
}

/** Goes through a tree, outer nodes first. Where `enter` gives `false`, what is inside is left out. */
export function eachNode(tree: Node, enter: (node: Node, parent: Node | null) => boolean): void {
  const visit = (node: Node, parent: Node | null) => {
    if (!enter(node, parent)) return;
    const { keys } = shapes.get(node.type) ?? shapeOf(node);
    if (!keys) return;
    for (let index = 0; index < keys.length; index++) {
      const value = (node as unknown as Record<string, Node | (Node | null)[] | null | undefined>)[keys[index]!];
      if (!value) continue;
      if (Array.isArray(value)) {
        for (let at = 0; at < value.length; at++) if (value[at]) visit(value[at]!, node);
      } else visit(value, node);
    }
  };
  visit(tree, null);
}

/** What a walk has to know of a type of node. */
interface Shape {
  /** Where a node holds others; absent where it holds none. */
  keys?: readonly string[];
  isIdentifier: boolean;
  isFunction: boolean;
}

/** Where only TypeScript has nodes. */
const typeKeys = new Set(['implements', 'returnType', 'typeAnnotation', 'typeArguments', 'typeParameters', 'superTypeArguments']);

const shapes = new Map<string, Shape>();

function shapeOf(node: Node): Shape {
  const { type } = node;
  const listed = visitorKeys[type];
  const keys = listed?.filter((key) => !typeKeys.has(key)) ?? otherKeys(node);
  const shape = {
    ...(keys.length > 0 ? { keys } : {}),
    isIdentifier: type === 'Identifier',
    isFunction: functionTypes.has(type),
  };
  // What nobody listed is looked at in every node.
  if (listed) shapes.set(type, shape);
  return shape;
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
