import type { Edge } from '../graph/module-graph.js';
import { grouped } from '../text/grouped.js';
import { evaluationOrder } from './native-order.js';

/** Modules that share one scope and run one after another: for the runtime they are one module. */
export interface Group {
  /** Id by which the runtime knows it: that of the module whose exports it has, else of the last one. */
  id: string;
  /** Ids in the order in which they run. */
  members: string[];
  /** The same in the order in which evaluation comes to them, and whether it's the same one whichever root runs. */
  met: string[];
  isMetAlike: boolean;
  /** The last of them, where others ask for its exports by name. */
  exposed?: string;
}

export interface GroupInput {
  /** Modules that are run for their own sake. */
  roots: Iterable<string>;
  edges(id: string): readonly Edge[];
  /** The file that a module goes into. */
  chunkOf(id: string): string | undefined;
  /** Has code that may share a scope. */
  isMember(id: string): boolean;
  /** Has nothing to run, nor any name that somebody uses. */
  isEmpty(id: string): boolean;
  isExposed(id: string): boolean;
  /** A number that modules have in common that all lead to each other; `undefined` for one that doesn't lead to itself. */
  circleOf(id: string): number | undefined;
  /** Id of a group whose last module is this one. */
  groupId(id: string): string;
  /** Why it shares its scope with nobody; `undefined` where it may. */
  apart(id: string): string | undefined;
  /** Comes before what it leads to when one root runs, and behind it when another does: who comes to it first decides. */
  begins(id: string): boolean;
  /** Which convention it follows for default imports of CommonJS; `undefined` where it has none. */
  convention(id: string): boolean | undefined;
}

/**
 * Puts modules together so that nothing about their order changes: only neighbours in the order in which the standard evaluates them
 * (ECMA-262, 16.2.1.6.1.3.1), for every root that reaches them, and only those that the same roots reach.
 */
export function planGroups(input: GroupInput): Map<string, Group> {
  const { isMember, isEmpty, isExposed, circleOf, chunkOf, apart, begins, convention } = input;
  const rootsOf = new Map<string, number[]>();
  const followers = new Map<string, string | null>();
  /** The place of a module among those to which the first root that reaches it comes. */
  const firstMet = new Map<string, number>();
  /** Modules that another root comes to in another order than to the one behind them. */
  const metOtherwise = new Set<string>();
  let number = 0;
  for (const root of input.roots) {
    const met = new Map<string, number>();
    const all = evaluationOrder(root, input.edges, { met: (id) => met.set(id, met.size) });
    const order = all.filter((id) => !(isMember(id) && isEmpty(id)));
    order.forEach((id, at) => {
      const roots = rootsOf.get(id);
      if (roots) roots.push(number);
      else rootsOf.set(id, [number]);
      const next = order[at + 1] ?? null;
      const known = followers.get(id);
      followers.set(id, known === undefined || known === next ? next : null);
      if (known && met.get(id)! < met.get(known)! !== firstMet.get(id)! < firstMet.get(known)!) metOtherwise.add(id);
    });
    for (const [id, place] of met) if (!firstMet.has(id)) firstMet.set(id, place);
    number++;
  }
  const keys = new Map([...rootsOf].map(([id, roots]) => [id, `${chunkOf(id)} ${roots.join()}`]));
  const mayJoin = (id: string) => isMember(id) && apart(id) === undefined;
  const isFollower = new Set<string>();
  const nextOf = new Map<string, string>();
  // In a circle it matters where evaluation begins.
  const isMetSomehow = (id: string, next: string) =>
    metOtherwise.has(id) && circleOf(id) !== undefined && circleOf(id) === circleOf(next);
  for (const [id, next] of followers) {
    if (
      next === null ||
      !mayJoin(id) ||
      !mayJoin(next) ||
      isExposed(id) ||
      keys.get(id) !== keys.get(next) ||
      begins(next) ||
      isMetSomehow(id, next)
    )
      continue;
    nextOf.set(id, next);
    isFollower.add(next);
  }
  const groups = new Map<string, Group>();
  const close = (members: string[]) => {
    const last = members.at(-1)!;
    const met = members.toSorted((a, b) => firstMet.get(a)! - firstMet.get(b)!);
    const isMetAlike = !members.some((id) => metOtherwise.has(id));
    const group: Group = { id: input.groupId(last), members, met, isMetAlike, ...(isExposed(last) ? { exposed: last } : {}) };
    for (const member of members) groups.set(member, group);
  };
  for (const id of rootsOf.keys()) {
    if (!isMember(id) || isFollower.has(id)) continue;
    let members: string[] = [];
    let agreed: boolean | undefined;
    for (let at: string | undefined = id; at !== undefined; at = nextOf.get(at)) {
      const own = convention(at);
      if (own !== undefined && agreed !== undefined && own !== agreed) {
        close(members);
        members = [];
        agreed = undefined;
      }
      agreed ??= own;
      members.push(at);
    }
    close(members);
  }
  return groups;
}

/** What has to be known to find where a group is entered. */
export type Entering = Pick<GroupInput, 'edges' | 'isEmpty' | 'circleOf'>;

/**
 * The modules of a group from which the standard comes to the others, in its order. Where that depends on which root runs, they begin
 * with what leads to the others: what it comes to before has run then. Those of a circle all lead to each other.
 */
export function entered({ members, met, isMetAlike }: Group, { edges, isEmpty, circleOf }: Entering): string[] {
  const own = new Set(members);
  const circles = grouped(met, circleOf);
  const reached = new Set<string>();
  const found: string[] = [];
  const reach = (start: string) => {
    const waiting = [start];
    for (let at = waiting.pop(); at !== undefined; at = waiting.pop()) {
      if (reached.has(at)) continue;
      reached.add(at);
      for (const { kind, target } of edges(at))
        if (kind === 'import' && (own.has(target) || isEmpty(target))) waiting.push(target);
    }
  };
  const startWith = (ids: readonly string[]) =>
    ids.filter((id) => {
      if (reached.has(id)) return false;
      reach(id);
      return true;
    });
  if (isMetAlike) return startWith(met);
  for (const id of members.toReversed()) {
    if (reached.has(id)) continue;
    const circle = circleOf(id);
    found.push(...startWith(circle === undefined ? [id] : circles.get(circle)!).reverse());
  }
  return found.reverse();
}
