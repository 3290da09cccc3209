import type Lightning from 'lightningcss';
import type { Targets } from 'lightningcss';
import type Postcss from 'postcss';
import type { Container } from 'postcss';
import { lazily } from '../core/lazily.js';
import { VineError } from '../core/problem/problem.js';
import type { Mapped } from './mapped.js';

export type SheetTargets = Targets;

// Only projects with style sheets need them.
const lightning = lazily<typeof Lightning>('lightningcss');
const postcss = lazily<typeof Postcss>('postcss');
const plugins = ['postcss-discard-comments', 'postcss-discard-empty', 'postcss-normalize-whitespace'].map((name) =>
  lazily<(options?: object) => Postcss.Plugin>(name),
);

/**
 * Shorthands that also reset properties which the translator of style sheets doesn't know to belong to them: it would put the shorthand
 * behind those, or write them into it where browsers don't take them.
 */
const resets: Record<string, RegExp> = {
  font: /^font-(?!family$|size$|style$|weight$|stretch$|variant-caps$)/i,
  animation: /^animation-(?:timeline|range|composition)/i,
  transition: /^transition-behavior$/i,
};

/** Behind a value, what makes a shorthand stay where it stands, as it's written. */
const asItIs = ' var(--spark-as-it-is,)';

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

/** Writes a style sheet as the targets understand it. Rules and declarations keep their order. */
export function loweredSheet(id: string, { text, map }: Mapped, targets: Targets): Mapped {
  const guarded = guardedShorthands({ text, ...(map === undefined ? {} : { map }) });
  const made = lightning().transform({
    filename: id,
    code: Buffer.from(guarded.text),
    errorRecovery: true,
    targets,
    ...(guarded.map === undefined ? {} : { sourceMap: true, inputSourceMap: guarded.map }),
  });
  // Shorter only behind what maps speak of.
  const lowered = made.code.toString().replaceAll(/ ?var\(--spark-as-it-is,? ?\)/g, '');
  return { text: lowered, ...(made.map ? { map: made.map.toString() } : {}) };
}

function guardedShorthands({ text, map }: Mapped): Mapped {
  const names = Object.keys(resets).filter((name) => new RegExp(`(?:^|[{;\\s])${name}\\s*:`, 'i').test(text));
  const mayMatter = names.some((name) => new RegExp(`(?:^|[{;\\s])${name}-[\\w-]+\\s*:`, 'i').test(text));
  if (!mayMatter) return { text, ...(map === undefined ? {} : { map }) };
  const root = postcss().parse(text, map === undefined ? {} : { from: '/built/assets/sheet.css', map: { prev: map } });
  const guard = (container: Container) => {
    container.each((node) => {
      if (node.type !== 'decl') return;
      const reset = resets[node.prop.toLowerCase()];
      const isNear = reset && container.some((other) => other.type === 'decl' && reset.test(other.prop));
      if (isNear && !/^(?:inherit|initial|unset|revert|revert-layer)$/i.test(node.value)) node.value += asItIs;
    });
  };
  root.walkRules(guard);
  root.walkAtRules((rule) => {
    if (rule.nodes) guard(rule as Container);
  });
  if (map === undefined) return { text: root.toString() };
  const made = root.toResult({ to: '/built/assets/sheet.css', map: { inline: false, annotation: false, sourcesContent: true } });
  return { text: made.css, map: made.map.toString() };
}

/** A style sheet without white space, comments and empty rules that mean nothing. Nothing is put together or in another order. */
export async function smallerSheet({ text, map }: Mapped): Promise<Mapped> {
  const from = '/built/assets/sheet.css';
  const prev =
    map === undefined ? { map: false as const } : { map: { prev: map, inline: false, annotation: false, sourcesContent: true } };
  const made = plugins.map((plugin) => plugin()({ removeAll: true }));
  const { css, map: chained } = await postcss()(made).process(text, { from, to: from, ...prev });
  return { text: css, ...(chained ? { map: chained.toString() } : {}) };
}
