import type { ImportedName, Member, Unit } from './member.js';

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

export interface ExportsInput {
  members: ReadonlyMap<string, Member>;
  /** Where the imports of a module lead. */
  targets(member: Member): readonly string[];
  /** What CommonJS gives by default follows Node's convention in this module. */
  isNodeDefault(member: Member): boolean;
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

/** So many stars are followed one after another. */
const fewStars = 8;

/** What the names that modules export come down to. */
export class Exports {
  readonly #input: ExportsInput;
  readonly #own: (member: Member, name: string) => OwnName;
  readonly #resolved = new Map<Member, Map<string, Found | null>>();
  readonly #stars = new Map<Member, Map<string, number[]> | null>();

  /** `own` gives a top-level name of a module itself. */
  constructor(input: ExportsInput, own: (member: Member, name: string) => OwnName) {
    this.#input = input;
    this.#own = own;
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
    if (local !== undefined) return member.apart === undefined ? { own: this.#own(member, local) } : { outer: id, name };
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
}

function isSame(a: Found, b: Found): boolean {
  if ('own' in a) return 'own' in b && a.own === b.own;
  if ('namespace' in a) return 'namespace' in b && a.namespace === b.namespace;
  return 'outer' in b && a.outer === b.outer && a.name === b.name;
}
