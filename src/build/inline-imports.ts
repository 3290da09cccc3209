import type Postcss from 'postcss';
import type { AtRule, ChildNode, Container, Root } from 'postcss';
import type ValueParser from 'postcss-value-parser';
import { importsOf } from '../core/documents/style-imports.js';
import { lazily } from '../core/lazily.js';
import type { Mapped } from './mapped.js';

const postcss = lazily<typeof Postcss>('postcss');
const valueParser = lazily<typeof ValueParser>('postcss-value-parser');

/** An `@import` taken apart (CSS Cascade Level 5, 2.1). */
interface Import {
  url: string;
  /** `''` for a layer without a name. */
  layer?: string;
  supports?: string;
  media: string;
}

/** What comes into the place of an `@import`: another sheet's rules, or the URL of its file. */
export type Imported = Mapped | { url: string };

/** Where sheets stand while they are put together, as far as maps name each other. */
const folder = '/built/assets';

/** URLs that the `@import`s of a sheet name, in order, but for those that browsers ignore. */
export function importedUrls({ text }: Mapped): string[] {
  if (!/@import\b/i.test(text)) return [];
  return importsOf(postcss().parse(text)).counting.map(({ params }) => parseImport(params)?.url ?? '');
}

/**
 * Puts imported sheets in the place of the `@import` that names them, within the layer and under the conditions that stand there.
 * `sheets` are those behind the `@import`s that count, in order; where there is none, it stays. What can't stay where it is must come
 * before all that has rules. `@import`s that browsers ignore are left out.
 */
export function inlineImports(sheet: Mapped, sheets: readonly (Imported | undefined)[]): Mapped {
  if (!/@import\b/i.test(sheet.text)) return sheet;
  const root = parsed(sheet);
  const { counting, ignored } = importsOf(root);
  for (const rule of ignored) rule.remove();
  counting.forEach((rule, index) => {
    const imported = sheets[index];
    const found = parseImport(rule.params);
    if (!imported || !found) return;
    if ('url' in imported) rule.params = `url("${imported.url}")${rule.params.slice(found.end)}`;
    else rule.replaceWith(...wrapped(parsed(imported).nodes, found));
  });
  if (sheet.map === undefined) return { text: root.toString() };
  const made = root.toResult({ to: `${folder}/sheet.css`, map: { inline: false, annotation: false, sourcesContent: true } });
  return { text: made.css, map: made.map.toString() };
}

let parts = 0;

function parsed({ text, map }: Mapped): Root {
  return postcss().parse(text, map === undefined ? {} : { from: `${folder}/part${parts++}.css`, map: { prev: map } });
}

/** `end`: where what follows the URL begins. */
function parseImport(params: string): (Import & { end: number }) | undefined {
  const [first, ...rest] = valueParser()(params).nodes.filter(({ type }) => type !== 'comment');
  const isUrl = first?.type === 'function' && first.value.toLowerCase() === 'url';
  const url = first?.type === 'string' ? first.value : isUrl ? first.nodes[0]?.value : undefined;
  if (url === undefined) return undefined;
  const found: Import & { end: number } = { url, media: '', end: first!.sourceEndIndex };
  const media: ValueParser.Node[] = [];
  for (const node of rest) {
    const isEarly = media.every(({ type }) => type === 'space');
    const name = node.type === 'function' || node.type === 'word' ? node.value.toLowerCase() : '';
    if (isEarly && name === 'layer' && found.layer === undefined)
      found.layer = node.type === 'function' ? valueParser().stringify(node.nodes) : '';
    else if (isEarly && name === 'supports' && node.type === 'function') found.supports = valueParser().stringify(node.nodes);
    else media.push(node);
  }
  return { ...found, media: valueParser().stringify(media).trim() };
}

/** Rules within a layer and under conditions, the layer innermost. */
function wrapped(nodes: ChildNode[], { layer, supports, media }: Import): ChildNode[] {
  let inside = nodes;
  const wrap = (name: string, params: string) => {
    const rule: Container = postcss().atRule({ name, params, nodes: [] });
    rule.append(...inside);
    inside = [rule as AtRule];
  };
  if (layer !== undefined) wrap('layer', layer);
  // A declaration needs brackets of its own where it isn't a condition already.
  if (supports !== undefined) wrap('supports', /^\s*(?:\(|not\b|selector\()/i.test(supports) ? supports : `(${supports})`);
  if (media !== '') wrap('media', media);
  return inside;
}
