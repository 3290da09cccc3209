import type Postcss from 'postcss';
import type { AtRule, ChildNode, Container, Root } from 'postcss';
import type ValueParser from 'postcss-value-parser';
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

/** Where sheets stand while they are put together, as far as maps name each other. */
const folder = '/built/assets';

/**
 * Puts imported sheets in the place of the `@import` that names them, within the layer and under the conditions that stand there.
 * `sheetOf` gives the sheet behind a URL; what it doesn't know stays an `@import`. Those that stay come first, since elsewhere
 * they would not count.
 */
export function inlineImports(sheet: Mapped, sheetOf: (url: string) => Mapped | undefined): Mapped {
  if (!/@import\b/i.test(sheet.text)) return sheet;
  const root = parsed(sheet);
  const left: ChildNode[] = [];
  root.walkAtRules(/^import$/i, (rule) => {
    const found = parseImport(rule.params);
    const imported = found && sheetOf(found.url);
    if (!found || imported === undefined) {
      left.push(rule.clone());
      rule.remove();
      return;
    }
    const inner = parsed(imported);
    inner.walkAtRules(/^import$/i, (outside) => {
      left.push(underBoth(outside, found));
      outside.remove();
    });
    rule.replaceWith(...wrapped(inner.nodes, found));
  });
  root.prepend(...left);
  if (sheet.map === undefined) return { text: root.toString() };
  const made = root.toResult({ to: `${folder}/sheet.css`, map: { inline: false, annotation: false, sourcesContent: true } });
  return { text: made.css, map: made.map.toString() };
}

let parts = 0;

function parsed({ text, map }: Mapped): Root {
  return postcss().parse(text, map === undefined ? {} : { from: `${folder}/part${parts++}.css`, map: { prev: map } });
}

function parseImport(params: string): Import | undefined {
  const [first, ...rest] = valueParser()(params).nodes.filter(({ type }) => type !== 'comment');
  const url = first?.type === 'string' ? first.value : first?.type === 'function' ? first.nodes[0]?.value : undefined;
  if (url === undefined) return undefined;
  const found: Import = { url, media: '' };
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

/** An `@import` of another origin that stood in an imported sheet: where that has a layer or conditions, a sheet of its own under them. */
function underBoth(rule: AtRule, { layer, supports, media }: Import): ChildNode {
  const under = [
    layer === undefined ? '' : layer === '' ? 'layer' : `layer(${layer})`,
    supports === undefined ? '' : `supports(${supports})`,
    media,
  ].filter((part) => part !== '');
  if (under.length === 0) return rule.clone();
  const text = encodeURIComponent(`@import ${rule.params};`);
  return rule.clone({ params: `url("data:text/css;charset=utf-8,${text}") ${under.join(' ')}` });
}
