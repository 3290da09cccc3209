import { packageOf } from '../core/module-id.js';
import { escapeHtml, writtenMark } from '../core/tool-page.js';
import type { ReadGraph } from './read-graph.js';

/** What the picture shows: files, and packages as one each. */
export interface Shown {
  nodes: { id: string; name: string; rank: number; bytes: number; kind: 'page' | 'script' | 'style' | 'file' | 'package' }[];
  edges: { from: string; to: string; isLate: boolean }[];
}

/** Files by their distance from the pages; every package as one. */
export function shownOf(graph: ReadGraph): Shown {
  const nameOf = (id: string) => packageOf(id) ?? id;
  const ranks = new Map<string, number>(graph.roots.map((root) => [root, 0]));
  const bytes = new Map<string, number>();
  for (const [id, size] of graph.sizes) bytes.set(nameOf(id), (bytes.get(nameOf(id)) ?? 0) + size);
  const edges = new Map<string, { from: string; to: string; isLate: boolean }>();
  const seen = new Set(graph.roots);
  for (const id of seen) {
    for (const { target, kind } of graph.edges.get(id) ?? []) {
      seen.add(target);
      const [from, to] = [nameOf(id), nameOf(target)];
      if (from === to) continue;
      if (!ranks.has(to)) ranks.set(to, (ranks.get(from) ?? 0) + 1);
      const key = `${from}\0${to}`;
      edges.set(key, { from, to, isLate: kind === 'dynamic' && edges.get(key)?.isLate !== false });
    }
  }
  const kindOf = (id: string): Shown['nodes'][number]['kind'] => {
    if (graph.roots.includes(id)) return 'page';
    if (!graph.edges.has(id)) return 'package';
    return /\.(?:css|s[ac]ss)$/.test(id) ? 'style' : /\.(?:[mc]?[jt]sx?|vue|svelte|json)$/.test(id) ? 'script' : 'file';
  };
  const nodes = [...ranks].map(([id, rank]) => ({ id, name: id, rank, bytes: bytes.get(id) ?? 0, kind: kindOf(id) }));
  return { nodes, edges: [...edges.values()] };
}

const colours = { page: '#1f5d3a', script: '#3f7f8c', style: '#b98a1d', file: '#8a7f6b', package: '#d9482b' };
const rowHeight = 26;
/** Of a letter of a name, in pixels, on average. */
const letterWidth = 6.2;

/** The graph as one HTML file: columns by distance from the pages; pointing at a module shows what it needs and who needs it. */
export function graphHtml(title: string, { nodes, edges }: Shown): string {
  const columns: Shown['nodes'][] = [];
  // Packages are needed from everywhere: they stand at the end.
  const last = Math.max(...nodes.map(({ rank, kind }) => (kind === 'package' ? 0 : rank))) + 1;
  for (const node of nodes) {
    const rank = node.kind === 'package' ? last : node.rank;
    columns[rank] = [...(columns[rank] ?? []), node];
  }
  const place = new Map<string, { x: number; y: number }>();
  let x = 24;
  for (const column of columns) {
    if (!column) continue;
    column.sort((a, b) =>
      a.kind === b.kind ? (a.id < b.id ? -1 : 1) : a.kind === 'package' ? 1 : b.kind === 'package' ? -1 : a.id < b.id ? -1 : 1,
    );
    for (const [at, { id }] of column.entries()) place.set(id, { x, y: 30 + at * rowHeight });
    x += 50 + Math.max(...column.map(({ name }) => shortened(name).length)) * letterWidth;
  }
  const height = Math.max(...columns.map((column) => column?.length ?? 0)) * rowHeight + 50;
  const width = x;
  const lines = edges.map(({ from, to, isLate }) => {
    const [a, b] = [place.get(from)!, place.get(to)!];
    const [x1, x2] = [a.x + 6, b.x - 6];
    const bend = Math.max(40, Math.abs(x2 - x1) / 2);
    return `<path d="M${x1},${a.y} C${x1 + bend},${a.y} ${x2 - bend},${b.y} ${x2},${b.y}" data-from="${escapeHtml(from)}" data-to="${escapeHtml(to)}"${isLate ? ' stroke-dasharray="4 3"' : ''}/>`;
  });
  const dots = nodes.map(({ id, name, bytes, kind }) => {
    const { x, y } = place.get(id)!;
    const radius = Math.min(9, 3 + Math.sqrt(bytes) / 60).toFixed(1);
    return `<g data-id="${escapeHtml(id)}" tabindex="0"><circle cx="${x}" cy="${y}" r="${radius}" fill="${colours[kind]}"/><text x="${x + 13}" y="${y + 4}">${escapeHtml(shortened(name))}</text><title>${escapeHtml(`${name}, ${bytes} bytes`)}</title></g>`;
  });
  const key = Object.entries(colours).map(([kind, colour]) => `<span><i style="background:${colour}"></i>${kind}</span>`);
  return `<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">${writtenMark}
<title>${escapeHtml(title)}: module graph</title>
<style>
body { margin: 0; font: 14px/1.5 system-ui, sans-serif; color: #22262a; background: #f7f4ec; }
header { position: sticky; left: 0; top: 0; display: flex; gap: 18px; align-items: center; padding: 10px 20px; background: #fffdf8; border-bottom: 1px solid #e2dccb; }
h1 { font-size: 16px; margin: 0; color: #1f5d3a; }
header input { font: inherit; padding: 4px 8px; border: 1px solid #e2dccb; border-radius: 6px; }
header i { display: inline-block; width: 10px; height: 10px; border-radius: 50%; margin-right: 5px; }
path { fill: none; stroke: #b9b3a4; stroke-width: 1; opacity: .5; }
text { font-size: 12px; fill: #22262a; paint-order: stroke; stroke: #f7f4ec; stroke-width: 3px; }
g { cursor: default; outline: none; }
svg.chosen g, svg.chosen path { opacity: .1; }
svg.chosen g.on { opacity: 1; }
svg.chosen path.needs { opacity: 1; stroke: #3f7f8c; stroke-width: 2; }
svg.chosen path.needed { opacity: 1; stroke: #d9482b; stroke-width: 2; }
g.on.self text { font-weight: 600; }
</style>
</head>
<body>
<header><h1>${escapeHtml(title)}</h1><input type="search" placeholder="find a module" aria-label="find a module">${key.join('')}<span id="about">${nodes.length} modules and packages, ${edges.length} ways</span></header>
<svg width="${width}" height="${height}" viewBox="0 0 ${width} ${height}">
${lines.join('\n')}
${dots.join('\n')}
</svg>
<script>
const svg = document.querySelector('svg');
const about = document.querySelector('#about');
const rest = about.textContent;
const paths = [...svg.querySelectorAll('path')];
const nodes = new Map([...svg.querySelectorAll('g')].map((node) => [node.dataset.id, node]));
function choose(id) {
  svg.classList.toggle('chosen', id !== undefined);
  for (const node of nodes.values()) node.classList.remove('on', 'self');
  let needs = 0, needed = 0;
  for (const path of paths) {
    const isFrom = path.dataset.from === id, isTo = path.dataset.to === id;
    path.classList.toggle('needs', isFrom);
    path.classList.toggle('needed', isTo);
    if (isFrom) { needs++; nodes.get(path.dataset.to).classList.add('on'); }
    if (isTo) { needed++; nodes.get(path.dataset.from).classList.add('on'); }
  }
  nodes.get(id)?.classList.add('on', 'self');
  about.textContent = id === undefined ? rest : id + ' needs ' + needs + ', and ' + needed + ' need it';
}
for (const [id, node] of nodes) {
  node.onmouseenter = node.onfocus = () => choose(id);
  node.onmouseleave = node.onblur = () => choose();
}
document.querySelector('input').oninput = ({ target }) => {
  const found = target.value && [...nodes.keys()].find((id) => id.includes(target.value));
  choose(found || undefined);
  if (found) nodes.get(found).scrollIntoView({ block: 'center', inline: 'center' });
};
</script>
</body>
</html>
`;
}

function shortened(name: string): string {
  return name.length > 30 ? `…${name.slice(-29)}` : name;
}

/** The same for Graphviz. */
export function graphDot({ nodes, edges }: Shown): string {
  const quoted = (text: string) => JSON.stringify(text);
  const rows = [
    ...nodes.map(
      ({ id, kind }) =>
        `  ${quoted(id)} [color=${quoted(colours[kind])}${kind === 'page' || kind === 'package' ? ', shape=box' : ''}];`,
    ),
    ...edges.map(({ from, to, isLate }) => `  ${quoted(from)} -> ${quoted(to)}${isLate ? ' [style=dashed]' : ''};`),
  ];
  return `digraph modules {\n  rankdir=LR;\n${rows.join('\n')}\n}\n`;
}
