import type Postcss from 'postcss';
import type { Declaration, Root } from 'postcss';
import { lazily } from '../core/lazily.js';
import { VineError } from '../core/problem/problem.js';
import type { Mapped } from './mapped.js';

// Only projects with style sheets need them.
const postcss = lazily<typeof Postcss>('postcss');
const plugins = ['postcss-discard-comments', 'postcss-discard-empty', 'postcss-normalize-whitespace'].map((name) =>
  lazily<(options?: object) => Postcss.Plugin>(name),
);

/** Nobody writes rules in rules so deeply, and native code that follows them runs out of its stack at some thousands. */
const deepest = 250;

/** Refuses a style sheet whose nesting would end the process. @throws VineError `file-too-large`. */
export function refuseDeepSheet(id: string, text: string): void {
  let rules = 0;
  let brackets = 0;
  for (const [sign] of text.matchAll(/\/\*[\s\S]*?\*\/|"(?:[^"\\\n]|\\[\s\S])*"|'(?:[^'\\\n]|\\[\s\S])*'|[{}()[\];]/g)) {
    if (sign === '(' || sign === '[') brackets++;
    else if (sign === ')' || sign === ']') brackets = Math.max(0, brackets - 1);
    else if (sign.length === 1) {
      if (sign === '{') rules++;
      else if (sign === '}') rules = Math.max(0, rules - 1);
      // Whatever was open ends with what it stands in.
      brackets = 0;
    }
    if (rules + brackets > deepest)
      throw new VineError({
        code: 'file-too-large',
        file: id,
        message: `${id} is too deeply nested to be built.`,
        hint: `Rules or brackets stand in each other more than ${deepest} times there. Let it be generated flat.`,
      });
  }
}

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
