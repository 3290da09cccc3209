import type { Node } from 'estree';
import { evaluate, type Known, typesAnywhere } from '../link/fold-constants.js';
import { deadBranch } from './choices.js';
import { Exports, type ExportsInput, type Found, type OwnName } from './exports.js';
import type { Branch, Member, Place, Reference, Unit } from './member.js';

/** What a use of a name stands for: up to `end`, with the members that lead there. */
export interface Use {
  found: Found;
  end: number;
}

/** What a reference stands for, up to `end`. */
export interface Read extends Use {
  reference: Reference;
  /** That of a constant, where it's short enough to stand everywhere. */
  text: string | undefined;
}

export interface NamesInput extends ExportsInput {
  constants: Readonly<Record<string, string>>;
  isOnCycle(id: string): boolean;
  /** Whether a module may run in a worker, where there is no window. */
  mayBeInWorker(id: string): boolean;
  /** Whether nothing but members of an object is ever read, and nothing about it changes. */
  isFixed(own: OwnName): boolean;
  /** Modules whose default export is only ever read by members: its members are exports of their own. */
  isData(id: string): boolean;
}

/** Follows names from module to module, and knows the values of those that are constant. */
export class Names {
  readonly #input: NamesInput;
  readonly #own = new Map<Member, Map<string, OwnName>>();
  readonly #values = new Map<OwnName, Known | undefined>();
  readonly #dead = new Map<Member, Branch[]>();
  readonly #foldable = new Map<Member, number>();
  readonly #found = new Map<Member, Map<string, Found | null>>();
  readonly #reads = new Map<Unit, readonly Read[]>();
  /** How many constants are being followed to their values. */
  #depth = 0;
  /** In the order of the text. */
  readonly #places = new Map<Member, readonly Place[]>();

  readonly exports: Exports;

  constructor(input: NamesInput) {
    this.#input = input;
    this.exports = new Exports(input, (member, name) => this.own(member, name));
  }

  own(member: Member, name: string): OwnName {
    let names = this.#own.get(member);
    if (!names) {
      names = new Map([...member.own].map((own) => [own, { member, name: own, units: [] as Unit[] }]));
      for (const unit of member.units)
        for (const own of unit.changes === undefined ? unit.declares : [unit.changes]) names.get(own)?.units.push(unit);
      this.#own.set(member, names);
    }
    return names.get(name)!;
  }

  /** What stands under a top-level name of a module, an import or its own. */
  local(member: Member, name: string): Found | null {
    const imported = member.imported.get(name);
    if (!imported) return { own: this.own(member, name) };
    const known = this.#found.get(member) ?? new Map<string, Found | null>();
    this.#found.set(member, known);
    const found = known.get(name);
    if (found !== undefined) return found;
    const fresh = this.exports.imported(member, imported);
    known.set(name, fresh);
    return fresh;
  }

  /** What a use of a name stands for. Members of namespace objects lead on, as far as that is the same. */
  use(member: Member, { name, end: nameEnd, members, isCalled, isMemberWrite }: Reference): Use {
    let found = this.local(member, name)!;
    let end = nameEnd;
    for (const [index, { name: step, end: stepEnd }] of members.entries()) {
      const isLast = index === members.length - 1;
      const next = isLast && isMemberWrite ? null : this.#step(found, step);
      if (!next || (isLast && isCalled && 'own' in next && next.own.member.usesThis.has(next.own.name))) break;
      found = next;
      end = stepEnd;
    }
    return { found, end };
  }

  #step(found: Found, name: string): Found | null {
    if ('namespace' in found) return this.exports.resolve(found.namespace, name);
    if (!('own' in found) || found.own.member.exported.get('default') !== found.own.name) return null;
    return this.#input.isData(found.own.member.id) ? this.#dataMember(found.own.member, name) : null;
  }

  #dataMember(member: Member, name: string): Found | null {
    const local = name === 'default' ? undefined : member.exported.get(name);
    return local === undefined ? null : { own: this.own(member, local) };
  }

  /** The value of a constant that is known to be there whenever it's read at `reference`, and where what is read ends. */
  #valueAt(member: Member, reference: Reference, { found, end }: Use): (Known & { end: number }) | undefined {
    if (reference.isWrite || reference.isMemberWrite) return undefined;
    if (!('own' in found) || !this.#isThere(found.own, member, reference)) return undefined;
    const known = this.valueOf(found.own);
    if (known) return { ...known, end };
    const next = reference.members.find((step) => step.end > end);
    const value = next && this.#memberValue(found.own, next.name);
    return value && { ...value, end: next.end };
  }

  /** The value of a member of an object that nothing ever changes. */
  #memberValue(own: OwnName, name: string): Known | undefined {
    if (!this.#input.isFixed(own)) return undefined;
    const expression = own.member.objects.get(own.name)?.get(name);
    return expression && this.evaluate(own.member, expression);
  }

  /** What the references of a unit stand for, those that can't run left out. Each step from shaking to printing asks for it. */
  reads(member: Member, unit: Unit): readonly Read[] {
    const known = this.#reads.get(unit);
    if (known) return known;
    const reads: Read[] = [];
    for (const reference of unit.references) {
      if (this.isDead(member, reference.start)) continue;
      const use = this.use(member, reference);
      const value = this.#valueAt(member, reference, use);
      const text = value && literalOf(value.value);
      reads.push({ reference, found: use.found, end: text === undefined ? use.end : value!.end, text });
    }
    this.#reads.set(unit, reads);
    return reads;
  }

  /** Whether a constant has its value by the time it's read: nothing of its module can have run code before. */
  #isThere({ member, units: [unit] }: OwnName, reader: Member, { start }: Reference): boolean {
    if (this.#input.isOnCycle(member.id) || !unit) return false;
    if (reader !== member) return true;
    let first = this.#foldable.get(member);
    if (first === undefined) {
      first = member.units.find(({ effects }) => effects.some(({ read }) => read === undefined))?.start ?? member.text.length;
      this.#foldable.set(member, first);
    }
    return unit.end <= first && unit.end <= start;
  }

  valueOf(own: OwnName): Known | undefined {
    if (this.#values.has(own)) return this.#values.get(own);
    this.#values.set(own, undefined);
    const expression = own.member.constants.get(own.name);
    if (!expression || this.#depth >= deepest) return undefined;
    this.#depth++;
    const value = this.evaluate(own.member, expression);
    this.#depth--;
    const isKept = typeof value?.value !== 'string' || value.value.length <= longest;
    this.#values.set(own, isKept ? value : undefined);
    return isKept ? value : undefined;
  }

  /** The value of an expression of a module, if it's known before anything runs. */
  evaluate(member: Member, expression: Node): Known | undefined {
    const lookup = (node: Node) => {
      const chain = chainOf(node);
      if (!chain) return undefined;
      if (chain.isLive) return { value: undefined };
      const { name, start, members } = chain;
      if (!member.own.has(name) && !member.imported.has(name)) return undefined;
      const steps = members.map((step, index) => ({ name: step, end: start + 1 + index }));
      const reference = { ...plainReference, name, start, end: start, members: steps };
      const known = this.#valueAt(member, reference, this.use(member, reference));
      // All of the chain has to be what is known.
      return known?.end === (steps.at(-1)?.end ?? start) ? known : undefined;
    };
    return evaluate(expression, this.#input.constants, lookup, this.#input.mayBeInWorker(member.id) ? typesAnywhere : undefined);
  }

  /** What of a module can't run, in the order of the text, none within another. */
  dead(member: Member): readonly Branch[] {
    const known = this.#dead.get(member);
    if (known) return known;
    const all: Branch[] = [];
    for (const choice of member.choices) {
      const value = this.evaluate(member, choice.test);
      const branch = value && deadBranch(choice, value.value);
      if (branch) all.push(branch);
    }
    all.sort((a, b) => a.start - b.start || b.end - a.end);
    const dead: Branch[] = [];
    for (const branch of all) if (branch.start >= (dead.at(-1)?.end ?? -1)) dead.push(branch);
    this.#dead.set(member, dead);
    return dead;
  }

  /** The places of a unit, those that can't run left out. */
  places(member: Member, { start, end }: Unit): Place[] {
    const all = this.#places.get(member) ?? member.places.toSorted((a, b) => a.start - b.start);
    this.#places.set(member, all);
    const found: Place[] = [];
    for (let at = firstFrom(all, start); at < all.length && all[at]!.start < end; at++)
      if (!this.isDead(member, all[at]!.start)) found.push(all[at]!);
    return found;
  }

  /** What can't run and begins in a unit. */
  deadIn(member: Member, { start, end }: Unit): readonly Branch[] {
    const dead = this.dead(member);
    const first = firstFrom(dead, start);
    return dead.slice(first, firstFrom(dead, end));
  }

  isDead(member: Member, at: number): boolean {
    const dead = this.dead(member);
    if (dead.length === 0) return false;
    const last = dead[firstFrom(dead, at + 1) - 1];
    return last !== undefined && at < last.end;
  }
}

/** The index of the first of some places, in the order of the text, that begins at `start` or behind it. */
function firstFrom(places: readonly { start: number }[], start: number): number {
  let low = 0;
  let high = places.length;
  while (low < high) {
    const middle = (low + high) >> 1;
    if (places[middle]!.start < start) low = middle + 1;
    else high = middle;
  }
  return low;
}

/** So many constants may be made of each other before what they come to is left open, and so long may texts be. */
const deepest = 100;
const longest = 10_000;

const plainReference: Reference = {
  name: '',
  start: 0,
  end: 0,
  isWrite: false,
  isShorthand: false,
  isNewed: false,
  isAtOnce: true,
  members: [],
  isCalled: false,
  isMemberWrite: false,
};

/** A name with the members that are read off it. */
function chainOf(node: Node): { name: string; start: number; members: string[]; isLive?: boolean } | undefined {
  if (node.type === 'Identifier') return { name: node.name, start: (node as unknown as { start: number }).start, members: [] };
  if (node.type !== 'MemberExpression') return undefined;
  const { object, property, computed } = node;
  const name =
    !computed && property.type === 'Identifier'
      ? property.name
      : property.type === 'Literal'
        ? String(property.value)
        : undefined;
  if (name === undefined) return undefined;
  if (object.type === 'MetaProperty') return { name: '', start: 0, members: [], isLive: name === 'live' };
  const chain = chainOf(object as Node);
  return chain && { ...chain, members: [...chain.members, name] };
}

function literalOf(value: unknown): string | undefined {
  if (value === undefined) return '(void 0)';
  if (typeof value === 'number') return Number.isFinite(value) && !Object.is(value, -0) ? `(${value})` : undefined;
  if (typeof value === 'string') return value.length <= 30 ? JSON.stringify(value) : undefined;
  return typeof value === 'boolean' || value === null ? String(value) : undefined;
}
