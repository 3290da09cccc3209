import type { Edge } from '../graph/module-graph.js';
import { named } from '../graph/named.js';
import type { Found, OwnName } from './exports.js';
import type { LateImport, Member, Unit } from './member.js';
import type { Names } from './names.js';
import type { NativeOrder } from './native-order.js';
import { urlEdge, urlsMatching } from './urls-of.js';

/** A module that runs for its own sake, and what is used of its exports. */
export interface ShakeRoot {
  id: string;
  /** `undefined` for all. */
  names?: readonly string[] | undefined;
}

export interface ShakeInput {
  members: ReadonlyMap<string, Member>;
  names: Names;
  targets(member: Member): readonly string[];
  edges(id: string): readonly Edge[];
  has(id: string): boolean;
  /** Whether running a module may matter to others, by what its package says. */
  mayMatter(id: string): boolean;
  isOnCycle(id: string): boolean;
  /** Asked once everything is known. */
  order: NativeOrder;
  roots: readonly ShakeRoot[];
  /** Names that a module which isn't taken apart imports, by target; `null` for all. */
  importedBy(id: string): ReadonlyMap<string, ReadonlySet<string> | null>;
}

/** What is left of a program. */
export interface Shaken {
  /** Modules that run. */
  modules: ReadonlySet<string>;
  units: ReadonlySet<Unit>;
  /** Exports that must be there under their names, by module: others ask for them while they run. */
  exposed: ReadonlyMap<string, ReadonlySet<string>>;
  /** Modules that `import()`, `require`, pages or workers run. */
  roots: ReadonlySet<string>;
  /** Where each module that runs leads. */
  edges(id: string): Edge[];
}

/** Finds what of a program is needed: what roots export as far as it's used, what has an effect, and all that these need. */
export function shake(input: ShakeInput): Shaken {
  return new Shaker(input).run();
}

class Shaker {
  readonly #input: ShakeInput;
  readonly #modules = new Set<string>();
  readonly #units = new Set<Unit>();
  readonly #used = new Set<OwnName>();
  readonly #exposed = new Map<string, Set<string>>();
  readonly #roots = new Set<string>();
  readonly #late = new Map<string, Set<string>>();
  readonly #waiting: (() => void)[] = [];

  constructor(input: ShakeInput) {
    this.#input = input;
  }

  run(): Shaken {
    for (const { id, names } of this.#input.roots) this.#root(id, names);
    for (let next = this.#waiting.pop(); next; next = this.#waiting.pop()) next();
    return {
      modules: this.#modules,
      units: this.#units,
      exposed: this.#exposed,
      roots: this.#roots,
      edges: (id) => this.#edgesOf(id),
    };
  }

  #root(id: string, names: readonly string[] | undefined): void {
    this.#roots.add(id);
    this.#expose(id, names);
  }

  /** Others ask for exports of this module by name while they run. */
  #expose(id: string, names: readonly string[] | undefined): void {
    this.#run(id);
    const exposed = this.#exposed.get(id) ?? new Set();
    this.#exposed.set(id, exposed);
    const member = this.#input.members.get(id);
    if (!member) return;
    const all = names === undefined || names.includes('then') ? this.#input.names.exports.exportedNames(id) : names;
    for (const name of all) {
      if (exposed.has(name)) continue;
      exposed.add(name);
      if (member.apart !== undefined) continue;
      const found = this.#input.names.exports.resolve(id, name);
      if (found) this.#needFound(found);
    }
    // Whether a namespace object can be awaited shows in the name `then`.
    if (names !== undefined && !exposed.has('then') && this.#input.names.exports.exportedNames(id).has('then'))
      this.#expose(id, undefined);
  }

  /** A module runs, with whatever it does when it runs. */
  #run(id: string): void {
    if (this.#modules.has(id) || !this.#input.has(id)) return;
    this.#modules.add(id);
    this.#waiting.push(() => this.#runNow(id));
  }

  #runNow(id: string): void {
    const member = this.#input.members.get(id);
    if (!member || member.apart !== undefined) {
      this.#runWhole(id);
      return;
    }
    const targets = this.#input.targets(member);
    for (const target of targets) this.#consider(target);
    for (const unit of member.units) if (this.#hasEffect(member, unit)) this.#keep(member, unit);
    // What a sheet is composed of stands in no import of a script.
    for (const { kind, target } of this.#input.edges(id))
      if (kind === 'style' || (kind === 'import' && !targets.includes(target))) this.#run(target);
  }

  /** A module that isn't taken apart asks for others while it runs. */
  #runWhole(id: string): void {
    const imports = this.#input.importedBy(id);
    for (const { kind, target } of this.#input.edges(id)) {
      if (kind === 'import' && this.#input.members.has(target)) {
        const names = imports.get(target);
        this.#expose(target, names ? [...names] : names === null ? undefined : []);
      } else if (kind === 'require' || kind === 'dynamic') this.#root(target, undefined);
      else if (kind === 'worker') this.#root(target, []);
      else this.#run(target);
    }
  }

  /** A module that is imported runs where that may matter; else only when something of it is used. */
  #consider(id: string): void {
    if (this.#input.mayMatter(id) || this.#input.order.isInWaitingCircle(id)) this.#run(id);
  }

  #hasEffect(member: Member, { changes, effects }: Unit): boolean {
    if (changes !== undefined) return false;
    const { names } = this.#input;
    return effects.some(({ at, callee, read }) => {
      if (names.isDead(member, at)) return false;
      if (read !== undefined) {
        const found = names.local(member, read);
        return found !== null && 'own' in found && this.#input.isOnCycle(member.id);
      }
      if (callee === undefined) return true;
      const found = names.local(member, callee);
      return !(found && 'own' in found && found.own.member.harmless.has(found.own.name));
    });
  }

  #keep(member: Member, unit: Unit): void {
    if (this.#units.has(unit)) return;
    this.#units.add(unit);
    for (const name of unit.declares) this.#need(this.#input.names.own(member, name));
    const { names } = this.#input;
    for (const { reference, found, text } of names.reads(member, unit)) {
      if (text !== undefined || (reference.isWrite && unit.declares.includes(reference.name))) continue;
      this.#needFound(found);
    }
    for (const late of unit.late) if (!names.isDead(member, late.start)) this.#keepLate(member, late);
    for (const place of names.places(member, unit)) {
      const edges = this.#input.edges(member.id);
      if (place.kind === 'urls') for (const edge of urlsMatching(edges, place.pattern)) this.#named(member, edge);
      const edge = place.kind === 'url' ? urlEdge(edges, place.specifier, place.isWorker) : undefined;
      if (edge) this.#named(member, edge);
    }
  }

  /** A file that is left, or a program of its own. */
  #named(member: Member, { kind, target }: Edge): void {
    this.#lateOf(member.id).add(target);
    if (kind === 'worker') this.#root(target, []);
    else this.#run(target);
  }

  #keepLate(member: Member, { key, names, called = [] }: LateImport): void {
    const [specifier, type] = key?.split('\0') ?? [];
    const edges = this.#input.edges(member.id);
    for (const edge of specifier === undefined ? edges : named(edges, specifier)) {
      if (edge.kind !== 'dynamic' || (type !== undefined && edge.type !== type)) continue;
      this.#lateOf(member.id).add(edge.target);
      this.#root(edge.target, called.some((name) => this.#looksAround(edge.target, name)) ? undefined : names);
    }
  }

  /** Whether an export that is called as a member may look at the others by its `this`. */
  #looksAround(id: string, name: string): boolean {
    const found = this.#input.names.exports.resolve(id, name);
    return found !== null && 'own' in found && found.own.member.usesThis.has(found.own.name);
  }

  #lateOf(id: string): Set<string> {
    const late = this.#late.get(id) ?? new Set();
    this.#late.set(id, late);
    return late;
  }

  #needFound(found: Found): void {
    if ('own' in found) this.#need(found.own);
    else if ('namespace' in found) this.#expose(found.namespace, undefined);
    else if (this.#input.members.has(found.outer)) this.#expose(found.outer, found.name === null ? undefined : [found.name]);
    else this.#run(found.outer);
  }

  #need(own: OwnName): void {
    if (this.#used.has(own)) return;
    this.#used.add(own);
    this.#run(own.member.id);
    this.#waiting.push(() => {
      for (const unit of own.units) this.#keep(own.member, unit);
    });
  }

  /** Static imports of modules that don't run are replaced by what those lead to, as far as it runs before. */
  #edgesOf(id: string): Edge[] {
    const member = this.#input.members.get(id);
    const edges = this.#input.edges(id);
    const isWhole = !member || member.apart !== undefined;
    if (isWhole) return edges.filter(({ target }) => this.#modules.has(target));
    const late = this.#late.get(id);
    const others = edges.filter(
      ({ kind, target }) => (kind === 'style' && this.#modules.has(target)) || (kind !== 'import' && late?.has(target)),
    );
    const seen = new Set<string>();
    const imports: Edge[] = [];
    const follow = (target: string, isPast = false) => {
      if (seen.has(target)) return;
      const isLeft = this.#modules.has(target);
      if ((isPast || !isLeft) && this.#input.order.isLater(id, target)) return;
      seen.add(target);
      if (isLeft) imports.push({ kind: 'import', specifier: target, target });
      else for (const edge of this.#input.edges(target)) if (edge.kind === 'import') follow(edge.target, true);
    };
    for (const { kind, target } of edges) if (kind === 'import') follow(target);
    return [...imports, ...others];
  }
}
