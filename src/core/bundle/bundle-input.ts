import type { Edge } from '../graph/module-graph.js';
import type { Member } from './member.js';
import { Names } from './names.js';
import type { ShakeRoot } from './shake.js';

/** What a bundle is made from. */
export interface BundleInput {
  members: ReadonlyMap<string, Member>;
  edges(id: string): readonly Edge[];
  has(id: string): boolean;
  /** All modules. */
  modules(): Iterable<string>;
  /** Where the imports of a module lead. */
  targets(member: Member): readonly string[];
  mayMatter(id: string): boolean;
  isOnCycle(id: string): boolean;
  /** See `NamesInput`. */
  mayBeInWorker(id: string): boolean;
  /** A number that modules have in common that all lead to each other; `undefined` for one that doesn't lead to itself. */
  circleOf(id: string): number | undefined;
  /** See `NamesInput`. */
  isNodeDefault(member: Member): boolean;
  /** JSON, and names of classes: the members of the default export are exports too. */
  isData(id: string): boolean;
  /** Style sheets, which stand for themselves whoever uses names of theirs. */
  isSheet(id: string): boolean;
  importedBy(id: string): ReadonlyMap<string, ReadonlySet<string> | null>;
  constants: Readonly<Record<string, string>>;
  roots: readonly ShakeRoot[];
  /** A top-level `await` gives what it waits for to the runtime, by a `yield` that is put in its place later. */
  inSteps: boolean;
  /** Generators are going to be translated, which takes a `use strict` in them for a statement: it stands around them. */
  isOld: boolean;
}

/** Finds modules that can't share a scope with others, and says why. */
export function markApart(input: BundleInput): void {
  const { members, targets } = input;
  const isOpen = (member: Member) =>
    member.stars.some((star) => {
      const other = members.get(targets(member)[star]!);
      return !other || other.apart?.startsWith(openReason) === true;
    });
  for (let isNews = true; isNews; ) {
    isNews = false;
    for (const member of members.values()) {
      if (member.apart !== undefined || !isOpen(member)) continue;
      member.apart = `${openReason}, which only tells its names when it runs`;
      isNews = true;
    }
  }
  const names = namesAtFirst(input);
  for (const member of members.values()) {
    if (member.apart !== undefined) continue;
    const lost = [...member.imported].find(([, imported]) => names.exports.imported(member, imported) === null);
    if (lost) member.apart = `it imports ${lost[0]}, which nothing exports`;
  }
}

/** Names while nothing is known of data and objects. */
function namesAtFirst(input: BundleInput): Names {
  return new Names({ ...input, isData: () => false, isFixed: () => false });
}

const openReason = 'it passes on what a CommonJS module exports';

/** Data modules, and objects by module and name, of which nothing but members is ever read, anywhere. Errs towards fewer. */
export function readByMembers(input: BundleInput): { data: Set<string>; objects: Set<string> } {
  const { members, isData, edges } = input;
  const data = new Set([...members.keys()].filter(isData));
  const objects = new Set(
    [...members.values()].flatMap((member) => [...member.objects.keys()].map((name) => `${member.id}\0${name}`)),
  );
  const names = namesAtFirst(input);
  /** Modules whose exports somebody may have as a whole. */
  const open = new Set<string>();
  for (const member of members.values()) {
    for (const { kind, target } of edges(member.id)) if (kind === 'dynamic' || member.apart !== undefined) open.add(target);
    for (const { references } of member.units) {
      for (const reference of references) {
        const { found, end } = reference.isWrite
          ? { found: names.local(member, reference.name), end: reference.end }
          : names.use(member, reference);
        if (!found) continue;
        if ('namespace' in found) open.add(found.namespace);
        if (!('own' in found)) continue;
        const { own } = found;
        const rest = reference.members.filter((step) => step.end > end);
        const isRead = rest.length > 0 && !reference.isMemberWrite && !(reference.isCalled && rest.length === 1);
        const isDeclaration = reference.isWrite && own.member === member && member.objects.has(reference.name);
        if (isDeclaration) continue;
        if (!isRead && own.member.exported.get('default') === own.name) data.delete(own.member.id);
        if (!isRead || !own.member.objects.get(own.name)?.has(rest[0]!.name)) objects.delete(`${own.member.id}\0${own.name}`);
      }
    }
  }
  for (const id of openTo(input)) open.add(id);
  for (const id of open) {
    for (const name of names.exports.exportedNames(id)) {
      const found = names.exports.resolve(id, name);
      if (found && 'own' in found) objects.delete(`${found.own.member.id}\0${found.own.name}`);
    }
  }
  return { data, objects };
}

/** Modules that others ask for while they run. */
function openTo({ members, edges, modules }: BundleInput): Set<string> {
  const open = new Set<string>();
  for (const id of modules()) if (!members.has(id)) for (const { target } of edges(id)) open.add(target);
  return open;
}
