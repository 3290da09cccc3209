import type Postcss from 'postcss';
import type { Declaration, Root } from 'postcss';
import { lazily } from '../core/lazily.js';
import type { Mapped } from './mapped.js';

// Only projects with style sheets need them.
const postcss = lazily<typeof Postcss>('postcss');
const plugins = ['postcss-discard-comments', 'postcss-discard-empty', 'postcss-normalize-whitespace'].map((name) =>
  lazily<(options?: object) => Postcss.Plugin>(name),
);

/**
 * A style sheet without white space, comments and empty rules that mean nothing. Nothing is put together or in another order, and
 * custom properties hold what they held: scripts may read them.
 */
export async function smallerSheet({ text, map }: Mapped): Promise<Mapped> {
  const from = '/built/assets/sheet.css';
  const prev =
    map === undefined ? { map: false as const } : { map: { prev: map, inline: false, annotation: false, sourcesContent: true } };
  const made = plugins.map((plugin) => plugin()({ removeAll: true }));
  const custom = new Map<Declaration, Pick<Declaration, 'value' | 'raws'>>();
  const note = (root: Root) => {
    root.walkDecls(/^--/, (node) => {
      custom.set(node, { value: node.value, raws: { ...node.raws } });
    });
  };
  const restore = () => {
    for (const [node, { value, raws }] of custom) {
      const { value: raw, between = ':' } = raws;
      node.value = value;
      Object.assign(node.raws, { value: raw, between: value.trim() === '' ? between : ':' });
    }
  };
  const first = { postcssPlugin: 'note-custom-properties', Once: note };
  const last = { postcssPlugin: 'restore-custom-properties', OnceExit: restore };
  const result = postcss()([first, ...made, last]).process(text, { from, to: from, ...prev });
  const { css, map: chained } = await result;
  return { text: css, ...(chained ? { map: chained.toString() } : {}) };
}
