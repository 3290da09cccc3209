import type Lightning from 'lightningcss';
import type { Targets } from 'lightningcss';
import type Postcss from 'postcss';
import type { AtRule, ChildNode, Container, Declaration, Root, Rule } from 'postcss';
import type ValueParser from 'postcss-value-parser';
import { lazily } from '../core/lazily.js';
import type { Mapped } from './mapped.js';

export type SheetTargets = Targets;

// Only projects with style sheets need them.
const lightning = lazily<typeof Lightning>('lightningcss');
const postcss = lazily<typeof Postcss>('postcss');
const valueParser = lazily<typeof ValueParser>('postcss-value-parser');

/**
 * Writes a style sheet as the targets understand it. Only what one of them doesn't know is written anew, declaration by declaration
 * where that is possible: everything else stays to the letter, hacks, repeated names and digits too. Rules and declarations keep
 * their order. `onLeft` is told of declarations that can't be written so that all of the targets understand them.
 */
export function loweredSheet(id: string, sheet: Mapped, targets: Targets, onLeft: (declaration: string) => void): Mapped {
  const lowering = new Lowering(id, targets, onLeft);
  if (lowering.outcomeOf(sheet.text).is === 'same') return sheet;
  const { text, map } = sheet;
  const root = postcss().parse(text, map === undefined ? {} : { from: place, map: { prev: map } });
  lowering.each(root);
  if (map === undefined) return { text: root.toString() };
  const made = root.toResult({ to: place, map: { inline: false, annotation: false, sourcesContent: true } });
  return { text: made.css, map: made.map.toString() };
}

const place = '/built/assets/sheet.css';
/** Rules that hold others, which mean the same without them. */
const around = /^(?:media|supports|layer|container|scope|starting-style)$/i;
/** A declaration that every browser takes. */
const filler = '--spark:0';
/** What the name of a property begins with that stands for a declaration. */
const standIn = '--spark-';

/** What becomes of a text: `same`, or how it's written; `unknown` where something would be left out that isn't understood. */
type Outcome = { is: 'same' | 'unknown' } | { is: 'lowered'; text: string };

class Lowering {
  readonly #id: string;
  readonly #targets: Targets;
  /** What was found of declarations and selectors, which repeat. */
  readonly #known = new Map<string, Outcome>();

  readonly #lacksLightDark: boolean;
  readonly #onLeft: (declaration: string) => void;

  /** Rules that were made of one, whose selectors are as the targets understand them. */
  readonly #apart = new WeakSet<Rule>();

  constructor(id: string, targets: Targets, onLeft: (declaration: string) => void) {
    this.#id = id;
    this.#onLeft = onLeft;
    this.#targets = targets;
    this.#lacksLightDark = !this.#transformed('a{color:light-dark(red,red)}', { targets }).code.includes('light-dark');
  }

  each(container: Container | Root): void {
    for (const node of [...(container.nodes ?? [])]) {
      if (this.outcomeOf(node.toString()).is === 'same') continue;
      if (node.type === 'rule') isFlat(node) ? this.#rule(node) : this.#takenApart(node);
      else if (node.type === 'atrule' && around.test(node.name) && node.nodes) this.#around(node);
      else this.#whole(node);
    }
  }

  outcomeOf(text: string): Outcome {
    if (this.#lacksLightDark && lightDark.test(text)) return { is: 'unknown' };
    const asItIs = this.#written(text, undefined);
    const lowered = asItIs === undefined ? undefined : this.#written(text, this.#targets);
    if (lowered === undefined) return { is: 'unknown' };
    return lowered === asItIs ? { is: 'same' } : { is: 'lowered', text: lowered };
  }

  #knownOf(text: string): Outcome {
    const known = this.#known.get(text) ?? this.outcomeOf(text);
    this.#known.set(text, known);
    return known;
  }

  /** The one node that a text becomes for the targets: itself for what stays; `undefined` where it takes several. */
  #single(text: string): ChildNode | 'same' | undefined {
    const outcome = this.#knownOf(text);
    if (outcome.is !== 'lowered') return 'same';
    const [made, ...more] = postcss().parse(outcome.text).nodes;
    return more.length === 0 ? made : undefined;
  }

  #rule(rule: Rule): void {
    const selector = this.#apart.has(rule) ? 'same' : this.#single(`${rule.selector}{${filler}}`);
    if (selector !== 'same' && selector?.type !== 'rule') return this.#takenApart(rule);
    if (selector !== 'same') rule.selector = selector.selector;
    for (const node of [...rule.nodes]) {
      const made = node.type === 'decl' ? this.#declarationOf(node) : 'same';
      if (made === undefined) this.#alone(rule, node as Declaration);
      else if (made !== 'same') node.replaceWith(...made.map((one) => from(one.clone(), node)));
    }
    if (rule.nodes.length === 0) rule.remove();
  }

  /** A declaration that takes rules of its own, between what stands before and behind it in its rule. */
  #alone(rule: Rule, node: Declaration): void {
    const written = this.#written(guarded(`${rule.selector}{${node.toString()}}`), this.#targets);
    if (written === undefined) return;
    const before = rule.clone({ nodes: [] });
    for (let first = rule.first; first && first !== node; first = rule.first) before.append(first);
    node.remove();
    const made = postcss()
      .parse(unguarded(written))
      .nodes.map((one) => from(one, node));
    rule.before([...(before.nodes.length > 0 ? [from(before, rule)] : []), ...made]);
  }

  #declarationOf(node: Declaration): readonly Declaration[] | 'same' | undefined {
    if (this.#lacksLightDark && lightDark.test(node.value)) return this.#withLight(node);
    if (mixesColors(node.value)) return this.#colorByColor(node);
    const made = this.#single(`a{${node.toString()}}`);
    if (made === 'same') return made;
    const isPlain = made?.type === 'rule' && made.nodes.every(({ type }) => type === 'decl');
    return isPlain ? (made.nodes as Declaration[]) : undefined;
  }

  /** The light colours of `light-dark()` for those who don't know it, in front of what is written. */
  #withLight(node: Declaration): readonly Declaration[] | 'same' {
    if (node.prop.startsWith('--')) return this.#left(node);
    const value = valueParser()(node.value);
    value.walk((part) => {
      if (part.type !== 'function' || part.value.toLowerCase() !== 'light-dark') return;
      const end = part.nodes.findIndex(({ type, value: sign }) => type === 'div' && sign === ',');
      Object.assign(part, { type: 'word', value: valueParser().stringify(part.nodes.slice(0, end === -1 ? undefined : end)) });
    });
    const light = node.clone({ value: value.toString() });
    const lowered = lightDark.test(light.value) ? 'same' : this.#declarationOf(light);
    return [...(Array.isArray(lowered) ? (lowered as Declaration[]) : [light]), node.clone()];
  }

  /** A declaration with colours that have no value yet beside others: the others by themselves, in front of what is written. */
  #colorByColor(node: Declaration): readonly Declaration[] | 'same' {
    if (node.prop.startsWith('--')) return this.#left(node);
    const value = valueParser()(node.value);
    let isLowered = false;
    value.walk((part) => {
      const written = part.type === 'function' ? valueParser().stringify(part) : '';
      if (!isNewColor.test(written)) return undefined;
      const made = mixesColors(written) ? 'same' : this.#single(`a{color:${written}}`);
      const first = made !== 'same' && made?.type === 'rule' ? made.first : undefined;
      if (first?.type !== 'decl') return false;
      Object.assign(part, { type: 'word', value: first.value });
      isLowered = true;
      return false;
    });
    return isLowered ? [node.clone({ value: value.toString() }), node.clone()] : 'same';
  }

  /** Browsers take any value of a custom property: of several, the last one would count. */
  #left(node: Declaration): 'same' {
    this.#onLeft(node.toString());
    return 'same';
  }

  /** A rule around others: what it says itself, and then those in it. */
  #around(rule: AtRule): void {
    const made = this.#single(`@${rule.name} ${rule.params}{a{${filler}}}`);
    if (made !== 'same') {
      if (made?.type !== 'atrule') return this.#whole(rule);
      rule.params = made.params;
    }
    this.each(rule);
  }

  /**
   * A rule with others in it, or with a selector that takes several, is taken apart first, with names in the place of what it says: then
   * declarations are looked at one by one, as everywhere.
   */
  #takenApart(rule: Rule): void {
    const declarations: Declaration[] = [];
    const named = rule.clone();
    named.walkDecls((declaration) => {
      const name = `${standIn}${declarations.push(declaration.clone()) - 1}`;
      declaration.replaceWith({ prop: name, value: '0' });
    });
    const written = this.#written(named.toString(), this.#targets);
    if (written === undefined) return this.#whole(rule);
    const made = postcss().parse(written);
    let isApart = true;
    made.walkRules((inner) => {
      if (!isFlat(inner)) isApart = false;
      this.#apart.add(inner);
    });
    made.walkDecls((declaration) => {
      const original = declaration.prop.startsWith(standIn) && declarations[Number(declaration.prop.slice(standIn.length))];
      if (!original) return;
      // What takes rules of its own stays, where others stand in the rule.
      const lowered = isApart ? 'same' : this.#declarationOf(original);
      declaration.replaceWith(...(Array.isArray(lowered) ? lowered : [original]).map((one: Declaration) => one.clone()));
    });
    if (isApart) this.each(made);
    rule.replaceWith(...made.nodes.map((one) => from(one, rule)));
  }

  #whole(node: ChildNode): void {
    if (this.#isByDeclaration(node.toString())) return this.#byDeclaration(node);
    const written = this.#written(guarded(node.toString()), this.#targets);
    if (written === undefined) return;
    const made = postcss().parse(unguarded(written));
    node.replaceWith(...made.nodes.map((one) => from(one, node)));
  }

  /** Whether a text holds declarations that only go one by one. */
  #isByDeclaration(text: string): boolean {
    return (this.#lacksLightDark && lightDark.test(text)) || endsTranslator(text);
  }

  #byDeclaration(node: ChildNode): void {
    const declarations: Declaration[] = [];
    if ('walkDecls' in node) (node as Container).walkDecls((one) => void declarations.push(one));
    for (const one of declarations) {
      const made = this.#declarationOf(one);
      if (Array.isArray(made)) one.replaceWith(...made.map((other: Declaration) => from(other.clone(), one)));
    }
  }

  /** A text as the translator writes it; `undefined` where it would leave something out that it doesn't understand. */
  #written(text: string, targets: Targets | undefined): string | undefined {
    if (targets && endsTranslator(text)) return undefined;
    // What that becomes there shows nothing where no sheet says `color-scheme`.
    const exclude = lightning().Features.LightDark;
    const { warnings, code } = this.#transformed(text, { exclude, ...(targets ? { targets } : {}) });
    return warnings.length > 0 ? undefined : code;
  }

  #transformed(text: string, options: { targets?: Targets; exclude?: number }): { code: string; warnings: unknown[] } {
    const filename = this.#id;
    const { code, warnings } = lightning().transform({ filename, code: Buffer.from(text), errorRecovery: true, ...options });
    return { code: code.toString(), warnings };
  }
}

/** Colours that the translator of style sheets may write anew, at the start of a text and anywhere. */
const isNewColor = /^(?:(?:(?:ok)?(?:lab|lch)|color(?:-mix)?)\(|(?:rgb|hsl|hwb)a?\(\s*from\b)/i;
const newColor = new RegExp(`(?<![\\w-])${isNewColor.source.slice(1)}`, 'i');
const lightDark = /(?<![\w-])light-dark\(/i;
/** Colours that are known when a page is shown (CSS Color Level 4, 6.2, 9 and appendix A). */
const shownColor =
  /(?<![\w-])(?:currentcolor|canvas|mark|field|highlight|menu|scrollbar|background|appworkspace|(?:accent|active|button|canvas|caption|field|gray|highlight|inactive|info|link|mark|menu|selecteditem|threed|visited|window)\w+|selecteditem|window)(?![\w-])/i;

/** Whether colours that have no value yet stand beside others, which the translator of style sheets does not live through. */
function mixesColors(value: string): boolean {
  return shownColor.test(value) && newColor.test(value);
}

function endsTranslator(text: string): boolean {
  if (!mixesColors(text)) return false;
  let ends = false;
  const root = postcss().parse(text);
  root.walkDecls(({ value }) => {
    ends ||= mixesColors(value);
  });
  root.walkAtRules(({ params }) => {
    ends ||= mixesColors(params);
  });
  return ends;
}

function isFlat(rule: Rule): boolean {
  return rule.nodes.every(({ type }) => type === 'decl' || type === 'comment');
}

/** A node that stands for another one, for maps. */
function from<T extends ChildNode>(made: T, node: ChildNode): T {
  const take = (one: ChildNode) => {
    if (node.source) one.source = node.source;
  };
  take(made);
  if ('walk' in made) (made as Container).walk((inner) => take(inner));
  return made;
}

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

function guarded(text: string): string {
  const names = Object.keys(resets).filter((name) => new RegExp(`(?:^|[{;\\s])${name}\\s*:`, 'i').test(text));
  if (!names.some((name) => new RegExp(`(?:^|[{;\\s])${name}-[\\w-]+\\s*:`, 'i').test(text))) return text;
  const root = postcss().parse(text);
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
  return root.toString();
}

function unguarded(text: string): string {
  return text.replaceAll(/ ?var\(--spark-as-it-is,? ?\)/g, '');
}
