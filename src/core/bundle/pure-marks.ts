import type { Comment, Identifier, Node, Program } from 'estree';
import { walk } from 'estree-walker';
import type { Spanned } from '../link/tree.js';
import { defaultName } from './default-name.js';

/** Where the code behind comments of a kind begins. */
export function placesBehind(mark: RegExp, text: string, comments: readonly Comment[]): Set<number> {
  const places = new Set<number>();
  if (!mark.test(text)) return places;
  const ends = new Map(comments.map((comment) => [(comment as unknown as Spanned).start, comment]));
  for (const comment of comments) {
    if (!mark.test(comment.value)) continue;
    // Brackets may belong to what follows or stand around it.
    for (let at: number | undefined = (comment as unknown as Spanned).end; at !== undefined; ) {
      at += /^\s*/.exec(text.slice(at, at + 200))![0].length;
      places.add(at);
      at = text[at] === '(' ? at + 1 : (ends.get(at) as Spanned | undefined)?.end;
    }
  }
  return places;
}

/** Top-level functions that are marked as only giving a value, by their names. */
export function harmlessIn(
  tree: Program,
  parents: ReadonlyMap<Node, Node>,
  { text, comments }: { text: string; comments: readonly Comment[] },
): Set<string> {
  const names = new Set<string>();
  const marked = placesBehind(/[@#]__NO_SIDE_EFFECTS__/, text, comments);
  if (marked.size > 0)
    walk(tree, {
      enter(node) {
        if (marked.has((node as Spanned).start)) for (const name of namesOf(node, parents)) names.add(name);
      },
    });
  return names;
}

/** The top-level names of what begins at a mark. Names within functions and blocks are none. */
function namesOf(node: Node, parents: ReadonlyMap<Node, Node>): string[] {
  const parent = parents.get(node);
  if (parent?.type === 'VariableDeclarator' && parent.init === node && parent.id.type === 'Identifier')
    return isTop(parents.get(parent), parents) ? [parent.id.name] : [];
  if (!isTop(node, parents)) return [];
  if (node.type === 'ArrowFunctionExpression' || node.type === 'FunctionExpression') return [defaultName];
  const isExport = node.type === 'ExportNamedDeclaration' || node.type === 'ExportDefaultDeclaration';
  const inner = isExport ? node.declaration : node;
  if (inner?.type === 'FunctionDeclaration') return [(inner.id as Identifier | null)?.name ?? defaultName];
  if (inner?.type !== 'VariableDeclaration' || inner.kind !== 'const') return [];
  return inner.declarations.flatMap(({ id }) => (id.type === 'Identifier' ? [id.name] : []));
}

function isTop(node: Node | undefined, parents: ReadonlyMap<Node, Node>): boolean {
  const parent = node && parents.get(node);
  return parent?.type === 'Program' || parent?.type === 'ExportNamedDeclaration' || parent?.type === 'ExportDefaultDeclaration';
}
