import { modulesRunEarly } from '../graph/cycles.js';
import { ModuleGraph } from '../graph/module-graph.js';
import { type BundleInput, markApart, readByMembers } from './bundle-input.js';
import type { OwnName } from './exports.js';
import { type Entering, entered, type Group, planGroups } from './groups.js';
import type { Member } from './member.js';
import { Names } from './names.js';
import { importersOf, NativeOrder } from './native-order.js';
import { type PrintedMember, printMember } from './print-member.js';
import { GroupScope, innerName } from './scope.js';
import { type Shaken, shake } from './shake.js';
import { urlsOf } from './urls-of.js';

/** A program of which only what is needed is left, in groups of modules that share a scope. */
export class Bundle {
  readonly #input: BundleInput;
  readonly #order: NativeOrder;
  readonly names: Names;
  readonly shaken: Shaken;
  #groups: Map<string, Group> = new Map();
  /** The same by their ids for the runtime: that of a group which ends with a sheet is none of a module. */
  #groupsById: ReadonlyMap<string, Group> = new Map();
  readonly #seen = new Map<OwnName, Set<string>>();
  /** Functions that are used for more than to be called. */
  readonly #visible = new Set<OwnName>();
  readonly #scopes = new Map<Group, GroupScope>();
  readonly #imports = new Map<Group, { imports: string[]; links: string[] }>();
  #checked: ReadonlySet<string> = new Set();
  readonly #entering: Entering = {
    edges: (id) => this.shaken.edges(id),
    isEmpty: (id) => this.#isEmpty(id),
    circleOf: (id) => this.#input.circleOf(id),
  };

  constructor(input: BundleInput) {
    this.#input = input;
    const { members } = input;
    markApart(input);
    const { data, objects } = readByMembers(input);
    this.names = new Names({
      ...input,
      isData: (id) => data.has(id),
      isFixed: ({ member, name }) => objects.has(`${member.id}\0${name}`),
    });
    this.#order = new NativeOrder({
      ...input,
      left: () => this.shaken,
      isAsync: (id) => members.get(id)?.isAsync === true,
    });
    this.shaken = shake({ ...input, names: this.names, order: this.#order });
  }

  /** Why a module doesn't share a scope with others; `undefined` where it does. */
  apart(id: string): string | undefined {
    return this.#input.members.get(id)?.apart;
  }

  /**
   * Puts modules into groups, given the file that each goes into. `isPlain`: all variables get their names at once; else those that
   * nobody can see are left open, so that what is made smaller first gets the shortest.
   */
  group({ chunkOf, convention, isPlain, keepsNames }: Grouping): Group[] {
    const { members, isSheet } = this.#input;
    const { shaken } = this;
    const waiting = this.#waitingForAwait();
    const { begin, met } = this.#disputed();
    this.#groups = planGroups({
      roots: shaken.roots,
      edges: (id) => shaken.edges(id),
      chunkOf,
      isMember: (id) => members.has(id) && members.get(id)!.apart === undefined,
      isEmpty: (id) =>
        !this.#isExposed(id) &&
        !met.has(id) &&
        !this.#order.isInWaitingCircle(id) &&
        !members.get(id)!.isAsync &&
        !members.get(id)!.units.some((unit) => shaken.units.has(unit)),
      isExposed: (id) => this.#isExposed(id),
      circleOf: (id) => this.#input.circleOf(id),
      groupId: (id) => (isSheet(id) ? `${id}?names` : id),
      apart: (id) => (waiting.has(id) ? 'waits' : undefined),
      begins: (id) => begin.has(id),
      convention,
    });
    const groups = [...new Set(this.#groups.values())];
    this.#groupsById = new Map(groups.map((group) => [group.id, group]));
    this.#noteSeen(groups);
    for (const group of groups) this.#plan(group, { isPlain, keepsNames });
    const graph = new ModuleGraph<Group | undefined>();
    for (const group of groups)
      graph.set(
        group.id,
        group,
        this.#needsOf(group).map((target) => ({ kind: 'import', specifier: target, target })),
      );
    for (const id of shaken.modules) {
      const isOther = !members.has(id) || members.get(id)!.apart !== undefined || isSheet(id);
      if (isOther && !graph.has(id))
        graph.set(
          id,
          undefined,
          shaken.edges(id).map((edge) => ({ ...edge, target: this.idOf(edge.target) })),
        );
    }
    this.#checked = modulesRunEarly(
      graph,
      (group) => group?.members.some((id) => this.#hasSeenFunction(members.get(id)!)) ?? false,
    );
    return groups;
  }

  /** Whether others ask for a module by its id. */
  #isExposed(id: string): boolean {
    const names = this.shaken.exposed.get(id);
    return names !== undefined && !(this.#input.isSheet(id) && names.size === 0);
  }

  /** The id by which the runtime knows what a module became. */
  idOf(id: string): string {
    return this.#groups.get(id)?.id ?? id;
  }

  /** Everything that a module became for the runtime: nothing where nothing of it is left. */
  idsOf(id: string): string[] {
    const member = this.#input.members.get(id);
    const group = this.#groups.get(id);
    const isWhole = !member || member.apart !== undefined || this.#input.isSheet(id);
    return [...(isWhole ? [id] : []), ...(group ? [group.id] : [])];
  }

  /** The group that the runtime knows by an id. */
  groupAt(id: string): Group | undefined {
    return this.#groupsById.get(id);
  }

  /** The URLs that a module names, and whether what names them is left. */
  urlsOf(member: Member): { kind: 'url' | 'worker'; specifier: string; isLeft: boolean }[] {
    const left = new Set<string>();
    for (const unit of member.units)
      if (this.shaken.units.has(unit))
        for (const place of this.names.places(member, unit))
          if (place.kind === 'url') left.add(`${place.isWorker} ${place.specifier}`);
    return urlsOf(member).map((url) => ({ ...url, isLeft: left.has(`${url.kind === 'worker'} ${url.specifier}`) }));
  }

  /** Finds the variables of a group, and all that has to be there before it runs. */
  #plan(group: Group, { isPlain, keepsNames }: Pick<Grouping, 'isPlain' | 'keepsNames'>): void {
    const { names, shaken } = this;
    const members = group.members.map((id) => this.#input.members.get(id)!);
    const scope = new GroupScope({
      group,
      members,
      names,
      units: shaken.units,
      groupOf: (id) => this.#groups.get(id),
      isVisible: keepsNames ? (own) => this.#visible.has(own) || own.member.named.get(own.name)?.kind === 'class' : () => false,
      isPlain,
      keepsNames,
    });
    const imports = this.#importsOf(group);
    const links = new Set<string>();
    for (const { from } of scope.outer()) links.add(from!.id);
    for (const name of this.#exposedNames(group)) {
      const found = names.exports.resolve(group.exposed!, name);
      if (found && !scope.isHere(found)) links.add(scope.source(found).id);
    }
    this.#scopes.set(group, scope);
    // Where a name really comes from need not be what the module imports, and in a circle it matters what runs first.
    for (const id of imports) links.delete(id);
    this.#imports.set(group, { imports, links: [...links] });
  }

  /** Everything that a group leads to, in the order of the places by which it's named. */
  #needsOf(group: Group): string[] {
    const { imports, links } = this.#imports.get(group)!;
    return [...imports, ...links];
  }

  /** What a group needs to have run before, in the order in which the standard runs it. */
  #importsOf(group: Group): string[] {
    const { shaken } = this;
    const found = new Set<string>();
    const seen = new Set<string>();
    const last = group.members.at(-1)!;
    const follow = (id: string, from: string, isPast = false) => {
      if (seen.has(id)) return;
      const other = this.#groups.get(id);
      // What comes later has asked for this one: in a group it may not be it that begins the circle.
      if (other !== group && this.#order.isLater(isPast ? last : from, isPast ? (other?.members[0] ?? id) : id)) return;
      seen.add(id);
      if (this.#input.isSheet(id)) found.add(id);
      const isEmpty = this.#isEmpty(id);
      if (other && other !== group) found.add(other.id);
      else if (!other && !isEmpty) found.add(id);
      else {
        // A sheet stands for itself, and may have names too.
        for (const edge of shaken.edges(id)) if (edge.kind === 'import') follow(edge.target, isEmpty ? from : id, isEmpty);
      }
    };
    for (const id of entered(group, this.#entering)) follow(id, id);
    return [...found];
  }

  /** Of what may share a scope, only that which has nothing to run is in no group. */
  #isEmpty(id: string): boolean {
    const member = this.#input.members.get(id);
    return member !== undefined && member.apart === undefined && !this.#groups.has(id);
  }

  /** Modules that lead to what runs before them with one root and after them with another, and what that is. */
  #disputed(): { begin: Set<string>; met: Set<string> } {
    const begin = new Set<string>();
    const met = new Set<string>();
    for (const id of this.shaken.modules) {
      for (const { kind, target } of this.shaken.edges(id)) {
        if (kind !== 'import' || !this.#order.isNowLater(id, target)) continue;
        begin.add(id);
        met.add(target);
      }
    }
    return { begin, met };
  }

  /** Modules that hold a top-level `await` or wait for one: they can't share a run with others. */
  #waitingForAwait(): Set<string> {
    const { modules, edges } = this.shaken;
    return importersOf([...modules], edges, (id) => this.#input.members.get(id)?.isAsync);
  }

  /** Finds which names of a group others see, and under which. */
  #noteSeen(groups: readonly Group[]): void {
    const { members } = this.#input;
    const note = (own: OwnName, name: string) => {
      const seen = this.#seen.get(own);
      if (seen) seen.add(name);
      else this.#seen.set(own, new Set([name]));
    };
    for (const group of groups) {
      for (const id of group.members) {
        const member = members.get(id)!;
        for (const unit of member.units) {
          if (!this.shaken.units.has(unit)) continue;
          for (const { reference, found, end, text } of this.names.reads(member, unit)) {
            if (text !== undefined) continue;
            const isDeclaration = reference.isWrite && unit.declares.includes(reference.name);
            const isCall = reference.isCalled && end === (reference.members.at(-1)?.end ?? reference.end);
            if ('own' in found && !isDeclaration && !isCall) this.#visible.add(found.own);
            if ('own' in found && this.#groups.get(found.own.member.id) !== group) note(found.own, innerName(found.own));
          }
        }
      }
      for (const name of this.#exposedNames(group)) {
        const found = this.names.exports.resolve(group.exposed!, name);
        if (!found || !('own' in found)) continue;
        this.#visible.add(found.own);
        const isHere = this.#groups.get(found.own.member.id) === group;
        note(found.own, isHere ? name : innerName(found.own));
      }
    }
  }

  #exposedNames({ exposed }: Group): string[] {
    return exposed === undefined ? [] : [...this.shaken.exposed.get(exposed)!].sort();
  }

  #hasSeenFunction(member: Member): boolean {
    return [...member.named].some(([name, { kind }]) => kind === 'function' && this.#seen.has(this.names.own(member, name)));
  }

  /** Prints a group. */
  print(group: Group): PrintedGroup {
    const { shaken, names } = this;
    const own = group.members.map((id) => this.#input.members.get(id)!);
    const scope = this.#scopes.get(group)!;
    const isChecked = this.#checked.has(group.id);
    const places = isChecked ? new Map([...scope.outer()].map((variable, index) => [variable, index])) : undefined;
    const printed = own.map((member) => {
      const urls = new Map(urlsOf(member).map(({ kind, specifier }, index) => [`${kind} ${specifier}`, index]));
      return printMember({
        member,
        names,
        scope,
        units: shaken.units,
        seenAs: (name) => [...(this.#seen.get(names.own(member, name)) ?? [])],
        checkedPlace: places && ((variable) => places.get(variable)),
        urlPlace: (specifier, isWorker) => urls.get(`${isWorker ? 'worker' : 'url'} ${specifier}`) ?? -1,
        mayBeEarly: this.#input.isOnCycle(member.id),
      });
    });
    return { group, scope, members: printed, isAsync: own.some(({ isAsync }) => isAsync), ...this.#imports.get(group)! };
  }

  /** The first line of a group, up to the pause before its body, and its last; the names of all variables are known. */
  frame({ group, scope, members, isAsync }: PrintedGroup): { head: string; foot: string } {
    const { handle } = scope;
    const needs = this.#needsOf(group);
    const placeOf = (id: string) => needs.indexOf(id);
    const { isOld, inSteps } = this.#input;
    const start = isOld ? '(function () { "use strict"; return ' : isAsync && !inSteps ? 'async ' : '';
    let head = `${start}function* (${handle}) {${isOld ? '' : ' "use strict";'}`;
    const outer = [...scope.outer()];
    if (outer.length > 0) {
      const bindings = outer.map(({ name, from }) => {
        const value = name === 'v' ? 'w' : 'v';
        return `[${placeOf(from!.id)}, ${JSON.stringify(from!.name)}, (${value}) => { ${name} = ${value}; }${from!.name === null ? ', true' : ''}]`;
      });
      head += ` let ${outer.map(({ name }) => name).join(', ')}; ${handle}.bind([${bindings.join(', ')}]);`;
    }
    const getters: string[] = [];
    const early: string[] = [];
    const indirect: [string, number, string | null][] = [];
    const inner: string[] = [];
    const add = (own: OwnName, exported: string) => {
      getters.push(
        `${exported === '__proto__' ? '["__proto__"]' : JSON.stringify(exported)}: () => ${scope.variableOf({ own }).name}`,
      );
      if (own.member.named.get(own.name)?.kind === 'function') early.push(exported);
    };
    for (const name of this.#exposedNames(group)) {
      const found = this.names.exports.resolve(group.exposed!, name);
      if (!found) continue;
      if (scope.isHere(found)) add((found as { own: OwnName }).own, name);
      else {
        const source = scope.source(found);
        indirect.push([name, placeOf(source.id), source.name]);
      }
    }
    for (const { member } of members) {
      for (const name of member.own) {
        const own = this.names.own(member, name);
        const hidden = innerName(own);
        if (!this.#seen.get(own)?.has(hidden)) continue;
        add(own, hidden);
        inner.push(hidden);
      }
    }
    if (getters.length > 0 || indirect.length > 0) {
      const rest: unknown[] = [early, indirect, [], inner];
      while (rest.length > 0 && (rest.at(-1) as unknown[]).length === 0) rest.pop();
      head += ` ${handle}.exports({ ${getters.join(', ')} }${rest.map((part) => `, ${JSON.stringify(part)}`).join('')});`;
    }
    for (const { renamed } of members)
      for (const { variable, name } of renamed)
        head += ` ${handle}.named(${variable.name}, ${JSON.stringify(name)}, ${JSON.stringify(variable.name)});`;
    return { head: `${head} yield;`, foot: `${isAsync ? `${handle}.done();\n` : ''}}${isOld ? ' })()' : ''}` };
  }
}

export interface Grouping {
  /** The file that a module goes into. */
  chunkOf(id: string): string | undefined;
  /** See `GroupInput.convention`. */
  convention(id: string): boolean | undefined;
  isPlain: boolean;
  /** Functions and classes keep the names that programs can see. */
  keepsNames: boolean;
}

export interface PrintedGroup {
  group: Group;
  scope: GroupScope;
  members: PrintedMember[];
  isAsync: boolean;
  /** Ids of what runs before, in order. */
  imports: string[];
  /** Ids of what else it reads variables of. */
  links: string[];
}
