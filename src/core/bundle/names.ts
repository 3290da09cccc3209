import type { Node } from 'estree';
import { evaluate, type Known } from '../link/fold-constants.js';
import { deadBranch } from './choices.js';
import type { Branch, ImportedName, Member, Place, Reference, Unit } from './member.js';

/** A top-level name of a module that shares its scope with others. */
export interface OwnName {
  member: Member;
  name: string;
  /** What declares it, and what adds something to it. */
  units: Unit[];
  /** See `innerName`. */
  inner?: string;
}

/** What a name comes down to. */
export type Found =
  | { own: OwnName }
  /** All that a module exports, as an object. */
  | { namespace: string }
  /** Something that only the runtime knows; `name` is `null` for all of it. */
  | { outer: string; name: string | null };

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

/** A module that was asked for a name, and whom it asks itself. */
interface Asked {
  member: Member;
  name: string;
  /** What the others are asked for. */
  wanted: string;
  isByStar: boolean;
  ways: readonly string[];
  next: number;
  /** What one of them has said. */
  found: Found | null;
}

export interface NamesInput {
  members: ReadonlyMap<string, Member>;
  /** Where the imports of a module lead. */
  targets(member: Member): readonly string[];
  constants: Readonly<Record<string, string>>;
  isOnCycle(id: string): boolean;
  /** What CommonJS gives by default follows Node's convention in this module. */
  isNodeDefault(member: Member): boolean;
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
  readonly #resolved = new Map<Member, Map<string, Found | null>>();
  readonly #stars = new Map<Member, Map<string, number[]> | null>();
  /** How many constants are being followed to their values. */
  #depth = 0;
  /** In the order of the text. */
  readonly #places = new Map<Member, readonly Place[]>();

  constructor(input: NamesInput) {
    this.#input = input;
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

  /** Every name that a module exports (GetExportedNames, ECMA-262, 16.2.1.7.2.1). */
  exportedNames(id: string): Set<string> {
    const names = new Set<string>();
    const seen = new Set<string>();
    const waiting = [id];
    while (waiting.length > 0) {
      const at = waiting.pop()!;
      const member = this.#input.members.get(at);
      if (!member || seen.has(at)) continue;
      seen.add(at);
      for (const name of [...member.exported.keys(), ...member.passedOn.keys()])
        if (name !== 'default' || at === id) names.add(name);
      const targets = this.#input.targets(member);
      for (const star of member.stars.toReversed()) waiting.push(targets[star]!);
    }
    return names;
  }

  /** ResolveExport (ECMA-262, 16.2.1.7.2.2): `null` where there is none, or more than one. */
  resolve(id: string, name: string): Found | null {
    const member = this.#input.members.get(id);
    const known = member && this.#resolved.get(member)?.get(name);
    if (known !== undefined) return known;
    const found = this.#search(id, name);
    if (!member || member.exported.has(name)) return found;
    // What is found on the way is no answer for others: on a circle it's only part of one.
    const ofMember = this.#resolved.get(member) ?? new Map<string, Found | null>();
    this.#resolved.set(member, ofMember.set(name, found));
    return found;
  }

  /** No recursion: names may be passed on thousands deep. */
  #search(id: string, name: string): Found | null {
    const seen = new Set<string>();
    const asked: Asked[] = [];
    let answer = this.#ask(id, name, seen, asked);
    for (let last = asked.at(-1); last; last = asked.at(-1)) {
      // Two that mean something else by a name mean nothing for everybody above.
      if (answer && last.found && !isSame(last.found, answer)) return null;
      if (answer) last.found = answer;
      const way = last.ways[last.next++];
      // One behind a star that is no member only tells its names when it runs.
      const isOpen = way !== undefined && last.isByStar && !this.#input.members.has(way);
      if (way !== undefined && !isOpen) {
        answer = this.#ask(way, last.wanted, seen, asked);
        continue;
      }
      asked.pop();
      const isOuter = isOpen || (last.found !== null && last.member.apart !== undefined);
      answer = isOuter ? { outer: last.member.id, name: last.name } : last.found;
    }
    return answer ?? null;
  }

  /** What a module says of a name itself; `undefined` where others have to be asked, which it's put on the list for. */
  #ask(id: string, name: string, seen: Set<string>, asked: Asked[]): Found | null | undefined {
    const member = this.#input.members.get(id);
    if (!member) return { outer: id, name };
    const local = member.exported.get(name);
    if (local !== undefined) return member.apart === undefined ? { own: this.own(member, local) } : { outer: id, name };
    const key = `${id}\0${name}`;
    if (seen.has(key)) return null;
    seen.add(key);
    const passedOn = member.passedOn.get(name);
    if (!passedOn && name === 'default') return null;
    const direct = passedOn && this.#importedAtOnce(member, passedOn);
    if (direct) return member.apart === undefined ? direct : { outer: id, name };
    const targets = this.#input.targets(member);
    const ways = passedOn ? [targets[passedOn.from]!] : this.#starsFor(member, name).map((star) => targets[star]!);
    asked.push({ member, name, wanted: passedOn ? passedOn.name! : name, isByStar: !passedOn, ways, next: 0, found: null });
    return undefined;
  }

  /** The stars of a module that may lead to a name: all of a few. */
  #starsFor(member: Member, name: string): readonly number[] {
    const { stars } = member;
    if (stars.length <= fewStars) return stars;
    let byName = this.#stars.get(member);
    if (byName === undefined) {
      byName = this.#starsByName(member);
      this.#stars.set(member, byName);
    }
    return byName === null ? stars : (byName.get(name) ?? []);
  }

  /** Exported name -> the stars of a module that lead to it; `null` where one leads to names that only the runtime knows. */
  #starsByName(member: Member): Map<string, number[]> | null {
    const targets = this.#input.targets(member);
    if (member.stars.some((star) => !this.#input.members.has(targets[star]!))) return null;
    const byName = new Map<string, number[]>();
    for (const star of member.stars)
      for (const name of this.exportedNames(targets[star]!)) {
        const known = byName.get(name);
        if (known) known.push(star);
        else byName.set(name, [star]);
      }
    return byName;
  }

  /** What an import of a module leads to. */
  imported(member: Member, imported: ImportedName): Found | null {
    return this.#importedAtOnce(member, imported) ?? this.resolve(this.#input.targets(member)[imported.from]!, imported.name!);
  }

  /** The same where no other module has to be asked for a name. */
  #importedAtOnce(member: Member, { from, name }: ImportedName): Found | undefined {
    const target = this.#input.targets(member)[from]!;
    // Under Node's convention the default of a CommonJS module is all of `module.exports`, whoever asks for it over this module.
    if (name === 'default' && !this.#input.members.has(target) && this.#input.isNodeDefault(member))
      return { outer: target, name: 'module.exports' };
    if (name !== null) return undefined;
    return this.#input.members.get(target)?.apart === undefined && this.#input.members.has(target)
      ? { namespace: target }
      : { outer: target, name: null };
  }

  /** What stands under a top-level name of a module, an import or its own. */
  local(member: Member, name: string): Found | null {
    const imported = member.imported.get(name);
    if (!imported) return { own: this.own(member, name) };
    const known = this.#found.get(member) ?? new Map<string, Found | null>();
    this.#found.set(member, known);
    const found = known.get(name);
    if (found !== undefined) return found;
    const fresh = this.imported(member, imported);
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
    if ('namespace' in found) return this.resolve(found.namespace, name);
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
    return evaluate(expression, this.#input.constants, (node) => {
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
    });
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

/** So many stars are followed one after another. */
const fewStars = 8;

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

function isSame(a: Found, b: Found): boolean {
  if ('own' in a) return 'own' in b && a.own === b.own;
  if ('namespace' in a) return 'namespace' in b && a.namespace === b.namespace;
  return 'outer' in b && a.outer === b.outer && a.name === b.name;
}
