import type { Edge } from '../graph/module-graph.js';
import { evaluationOrder } from './native-order.js';

/** Modules that share one scope and run one after another: for the runtime they are one module. */
export interface Group {
  /** Id by which the runtime knows it: that of the module whose exports it has, else of the last one. */
  id: string;
  /** Ids in the order in which they run. */
  members: string[];
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
  /** Id of a group whose last module is this one. */
  groupId(id: string): string;
  /** Why it shares its scope with nobody; `undefined` where it may. */
  apart(id: string): string | undefined;
  /** Which convention it follows for default imports of CommonJS; `undefined` where it has none. */
  convention(id: string): boolean | undefined;
}

/**
 * Puts modules together so that nothing about their order changes: only neighbours in the order in which the standard evaluates them
 * (ECMA-262, 16.2.1.6.1.3.1), for every root that reaches them, and only those that the same roots reach.
 */
export function planGroups(input: GroupInput): Map<string, Group> {
  const { isMember, isEmpty, isExposed, chunkOf, apart, convention } = input;
  const rootsOf = new Map<string, number[]>();
  const followers = new Map<string, string | null>();
  let number = 0;
  for (const root of input.roots) {
    const order = evaluationOrder(root, input.edges).filter((id) => !(isMember(id) && isEmpty(id)));
    order.forEach((id, at) => {
      const roots = rootsOf.get(id);
      if (roots) roots.push(number);
      else rootsOf.set(id, [number]);
      const next = order[at + 1] ?? null;
      const known = followers.get(id);
      followers.set(id, known === undefined || known === next ? next : null);
    });
    number++;
  }
  const keys = new Map([...rootsOf].map(([id, roots]) => [id, `${chunkOf(id)} ${roots.join()}`]));
  const mayJoin = (id: string) => isMember(id) && apart(id) === undefined;
  const isFollower = new Set<string>();
  const nextOf = new Map<string, string>();
  for (const [id, next] of followers) {
    if (next === null || !mayJoin(id) || !mayJoin(next) || isExposed(id) || keys.get(id) !== keys.get(next)) continue;
    nextOf.set(id, next);
    isFollower.add(next);
  }
  const groups = new Map<string, Group>();
  const close = (members: string[]) => {
    const last = members.at(-1)!;
    const group: Group = { id: input.groupId(last), members, ...(isExposed(last) ? { exposed: last } : {}) };
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
