import type { AtRule, ChildNode, Root } from 'postcss';

/** At-rules that browsers know as rules; others are as if they weren't there. */
const known =
  /^(?:-webkit-)?(?:color-profile|container|counter-style|document|font-face|font-feature-values|font-palette-values|function|keyframes|layer|media|namespace|page|position-try|property|scope|starting-style|supports|view-transition)$/i;

/** Whether no `@import` counts behind a node; `hasImports` says whether one stands before it. */
function endsImports(node: ChildNode, hasImports: boolean): boolean {
  if (node.type !== 'atrule') return node.type === 'rule';
  const isLayerStatement = /^layer$/i.test(node.name) && node.nodes === undefined;
  return isLayerStatement ? hasImports : known.test(node.name);
}

/**
 * The `@import`s of a sheet. Those count that stand before all other rules, where only `@charset` and `@layer` statements may come
 * first, the latter not behind an `@import` (CSS Cascade Level 5, 2). Browsers ignore the others.
 */
export function importsOf(root: Root): { counting: AtRule[]; ignored: AtRule[] } {
  const counting = new Set<AtRule>();
  let isOver = false;
  for (const node of root.nodes) {
    if (isOver) break;
    if (node.type === 'atrule' && /^import$/i.test(node.name)) counting.add(node);
    else isOver = endsImports(node, counting.size > 0);
  }
  const ignored: AtRule[] = [];
  root.walkAtRules(/^import$/i, (rule) => {
    if (!counting.has(rule)) ignored.push(rule);
  });
  return { counting: [...counting], ignored };
}
