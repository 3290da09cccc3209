import { type HierarchyRectangularNode, hierarchy, treemap, treemapSquarify } from 'd3-hierarchy';
import { escapeHtml, writtenMark } from '../core/tool-page.js';
import { kilobytes } from './limits.js';
import type { ReportData, ReportModule } from './report.js';

const width = 1200;
const height = 640;
const measures = ['bytes', 'gzip'] as const;
type Measure = (typeof measures)[number];

interface Node {
  name: string;
  kind: 'build' | 'file' | 'package' | 'module';
  module?: ReportModule;
  /** Of a file: what stands between its modules counts too. */
  size?: Record<Measure, number>;
  children?: Node[];
}

/** A page of its own, with nothing to load, that shows what is in each file of a build, and why. */
export function reportPage(data: ReportData): string {
  const modules = data.files.flatMap((file) => file.modules.map((module) => ({ file, module })));
  const total = (of: Measure) => data.files.reduce((sum, file) => sum + file[of], 0);
  const index = new Map(modules.map(({ module }, at) => [module, at]));
  const maps = measures.map((of) => drawn(data, of, index)).join('\n');
  const shown = modules.map(({ file, module }) => ({ ...module, file: file.path, pages: file.pages }));
  const apart = [...new Map(modules.flatMap(({ module }) => (module.apart ? [[module.id, module]] : []))).values()];
  const heading = `${kilobytes(total('bytes'))} in ${data.files.length} script${data.files.length === 1 ? '' : 's'}, ${kilobytes(total('gzip'))} compressed`;
  return `<!doctype html>
<html lang="en"><meta charset="utf-8">${writtenMark}<meta name="viewport" content="width=device-width"><title>${escapeHtml(data.project)}: what is in the build</title>
<style>${css}</style>
<header><h1>${escapeHtml(data.project)}</h1><p>${heading}</p>
<fieldset><legend>Areas show</legend><label><input type="radio" name="of" value="bytes" checked> bytes in the file</label><label><input type="radio" name="of" value="gzip"> compressed by gzip</label></fieldset></header>
<main><div id="maps">${maps}</div><section id="about" aria-live="polite"><p>Point at a module, or go to it with the keyboard, to see why it is there.</p></section></main>
<div id="lists">${list('Largest modules', largest(shown), 'bytes in the file')}${list(
    'Left out altogether',
    data.gone.slice(0, 40).map(({ id, source }) => ({ id, text: kilobytes(source) })),
    'bytes of the source',
    data.gone.length,
  )}${list(
    'With a scope of their own',
    apart.slice(0, 40).map(({ id, apart: why }) => ({ id, text: why! })),
    '',
    apart.length,
  )}</div>
<script type="application/json" id="data">${JSON.stringify(shown).replaceAll('<', '\\u003c')}</script>
<script>${script}</script>
</html>
`;
}

function largest(modules: readonly ReportModule[]): { id: string; text: string }[] {
  return modules
    .toSorted((a, b) => b.bytes - a.bytes)
    .slice(0, 40)
    .map(({ id, bytes, source }) => ({ id, text: `${kilobytes(bytes)} of ${kilobytes(source)}` }));
}

function list(title: string, rows: readonly { id: string; text: string }[], unit: string, count = rows.length): string {
  if (rows.length === 0) return '';
  const items = rows.map(({ id, text }) => `<li><code>${escapeHtml(id)}</code> <span>${escapeHtml(text)}</span></li>`).join('');
  const more = count > rows.length ? `<p>and ${count - rows.length} more</p>` : '';
  return `<section><h2>${title}${unit === '' ? '' : ` <small>${unit}</small>`}</h2><ol>${items}</ol>${more}</section>`;
}

/** The map of areas for one measure. */
function drawn(data: ReportData, of: Measure, index: ReadonlyMap<ReportModule, number>): string {
  const root = hierarchy<Node>({ name: data.project, kind: 'build', children: data.files.map((file) => fileNode(file)) })
    .sum(({ module }) => module?.[of] ?? 0)
    .sort((a, b) => b.value! - a.value!);
  const laid = treemap<Node>()
    .tile(treemapSquarify)
    .size([width, height])
    .paddingInner(1)
    .paddingOuter((node) => (node.depth === 0 ? 0 : 1))
    .paddingTop((node) => headHeight(node))(root);
  const boxes = laid
    .descendants()
    .filter((node) => node.depth > 0 && node.x1 - node.x0 > 1 && node.y1 - node.y0 > 1)
    .map((node) => box(node, of, index));
  return `<div class="map" data-of="${of}"${of === 'bytes' ? '' : ' hidden'}>${boxes.join('')}</div>`;
}

/** The height of a line of text above what is in an area, where there is room for one. */
function headHeight({ depth, data, x0, x1, y0, y1 }: HierarchyRectangularNode<Node>): number {
  if (depth === 0) return 0;
  if (data.kind === 'file') return 20;
  return x1 - x0 > 60 && y1 - y0 > 40 ? 15 : 1;
}

function fileNode({ path, bytes, gzip, modules }: ReportData['files'][number]): Node {
  const packages = new Map<string, Node>();
  for (const module of modules) {
    const name = module.package;
    const node = packages.get(name) ?? { name: name === '' ? 'the application' : name, kind: 'package', children: [] };
    node.children!.push({ name: module.id, kind: 'module', module });
    packages.set(name, node);
  }
  return { name: path, kind: 'file', size: { bytes, gzip }, children: [...packages.values()] };
}

function box(node: HierarchyRectangularNode<Node>, of: Measure, index: ReadonlyMap<ReportModule, number>): string {
  const { x0, x1, y0, y1, data, value } = node;
  const place = `left:${percent(x0, width)};top:${percent(y0, height)};width:${percent(x1 - x0, width)};height:${percent(y1 - y0, height)}`;
  const isWide = x1 - x0 > 34 && y1 - y0 > 14;
  if (data.kind !== 'module') {
    const text = isWide ? `<b>${escapeHtml(data.name)} ${kilobytes(data.size?.[of] ?? value!)}</b>` : '';
    return `<div class="${data.kind}" style="${place}">${text}</div>`;
  }
  const { module } = data;
  const name = module!.id.split('/').at(-1)!;
  const own = module!.package === '' ? ' own' : '';
  const label = `${escapeHtml(module!.id)}, ${kilobytes(module![of])}`;
  return `<button class="module${own}${module!.apart ? ' apart' : ''}" data-at="${index.get(module!)}" style="${place}" aria-label="${label}">${isWide ? escapeHtml(name) : ''}</button>`;
}

function percent(part: number, whole: number): string {
  return `${((part / whole) * 100).toFixed(3)}%`;
}

const css = `
:root { color-scheme: light; --paper: #f7f4ec; --vine: #1f5d3a; --ember: #d9482b; --graphite: #22262a; }
* { box-sizing: border-box; }
body { margin: 0; padding: 24px; background: var(--paper); color: var(--graphite); font: 14px/1.45 system-ui, sans-serif; }
header { display: flex; flex-wrap: wrap; align-items: baseline; gap: 4px 24px; margin-bottom: 12px; }
h1 { margin: 0; font-size: 22px; } h2 { margin: 0 0 6px; font-size: 15px; } p { margin: 0; } small { font-weight: 400; color: #5c625f; }
fieldset { border: 0; margin: 0 0 0 auto; padding: 0; display: flex; gap: 12px; } legend { float: left; padding: 0; margin-right: 12px; color: #5c625f; }
main { display: grid; grid-template-columns: minmax(0, 1fr) 300px; gap: 16px; align-items: start; }
@media (max-width: 900px) { main { grid-template-columns: 1fr; } }
.map { position: relative; height: 640px; } .map[hidden] { display: none; }
.map > * { position: absolute; overflow: hidden; font-size: 11px; line-height: 1.2; white-space: nowrap; text-overflow: ellipsis; }
.file { background: var(--graphite); color: var(--paper); padding: 3px 6px; border-radius: 3px; font-size: 12px; } .file b { font-weight: 600; }
.package { background: #c9d4c4; padding: 1px 4px; } .package b { font-weight: 500; }
.module { border: 0; padding: 0; text-indent: 3px; margin: 0; background: #e8ece0; color: var(--graphite); text-align: left; font-family: inherit; cursor: default; }
.module.own { background: var(--vine); color: #fff; } .module.apart { background: #efd9c9; }
.module:hover, .module:focus-visible, .module[aria-pressed="true"] { outline: 2px solid var(--ember); outline-offset: -2px; z-index: 1; }
#about { background: #fff; border: 1px solid #d9d5c8; border-radius: 4px; padding: 12px 14px; min-height: 200px; overflow-wrap: anywhere; }
#about h2 { font-size: 14px; } #about dl { margin: 8px 0 0; display: grid; grid-template-columns: auto 1fr; gap: 2px 10px; } dt { color: #5c625f; } dd { margin: 0; }
#about ol { margin: 2px 0 0; padding-left: 18px; } #about h3 { font-size: 13px; margin: 12px 0 0; }
#lists { display: grid; grid-template-columns: repeat(auto-fit, minmax(320px, 1fr)); gap: 24px; margin-top: 24px; }
#lists ol { margin: 0; padding: 0; list-style: none; } #lists li { display: flex; justify-content: space-between; gap: 12px; border-top: 1px solid #e2ded2; padding: 2px 0; }
#lists code { font: 12px ui-monospace, monospace; overflow-wrap: anywhere; } #lists span { color: #5c625f; text-align: right; flex: none; max-width: 50%; }
`;

const script = `
const modules = JSON.parse(document.getElementById('data').textContent);
const about = document.getElementById('about');
const size = (bytes) => bytes < 1e6 ? (bytes / 1000).toFixed(bytes < 10000 ? 2 : 1) + ' kB' : (bytes / 1e6).toFixed(2) + ' MB';
const element = (name, text, ...children) => { const made = document.createElement(name); if (text) made.textContent = text; made.append(...children); return made; };
const list = (items) => element('ol', '', ...items.map((item) => element('li', item)));
let fixed;
function show(button) {
  const module = modules[button.dataset.at];
  const rows = [['in', module.file], ['package', module.package || 'the application'], ['size', size(module.bytes) + ', ' + size(module.gzip) + ' compressed'], ['source', size(module.source)]];
  about.replaceChildren(element('h2', module.id), element('dl', '', ...rows.flatMap(([name, text]) => [element('dt', name), element('dd', text)])));
  if (module.chain.length > 1) about.append(element('h3', 'Why it is there'), list(module.chain));
  if (module.apart) about.append(element('h3', 'Why it has its scope for itself'), element('p', module.apart));
  if (module.removed.length > 0) about.append(element('h3', 'Exports that are left out'), element('p', module.removed.join(', ')));
}
for (const button of document.querySelectorAll('.module')) {
  button.addEventListener('pointerenter', () => { if (!fixed) show(button); });
  button.addEventListener('focus', () => show(button));
  button.addEventListener('click', () => { const same = fixed === button; fixed?.removeAttribute('aria-pressed'); fixed = same ? undefined : button; if (fixed) { fixed.setAttribute('aria-pressed', 'true'); show(fixed); } });
}
for (const input of document.querySelectorAll('[name=of]')) input.addEventListener('change', () => { for (const map of document.querySelectorAll('.map')) map.hidden = map.dataset.of !== input.value; });
`;
