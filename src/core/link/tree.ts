import type { Node, Program } from 'estree';
import { walk } from 'estree-walker';

/** A node with its offsets, as the parser gives them. */
export type Spanned<T extends Node = Node> = T & { start: number; end: number };

export function parentsOf(tree: Program): Map<Node, Node> {
  const parents = new Map<Node, Node>();
  walk(tree, {
    enter(node, parent) {
      if (parent) parents.set(node, parent);
    },
  });
  return parents;
}
