import { shortHash } from '../text/content-hash.js';
import { defaultName } from './default-name.js';
import type { Found, OwnName } from './exports.js';
import type { Group } from './groups.js';
import type { Member, Unit } from './member.js';
import type { Names } from './names.js';

/** A variable in the scope of a group: a top-level name of one of its modules, or one that comes from elsewhere. */
export interface Variable {
  /** What it would be called if nobody else were. */
  wanted: string;
  /** Known from the start for names that programs can see; the others get theirs when it's known what is left of the modules. */
  name?: string;
  own?: OwnName;
  /** Where it comes from: the id of a module for the runtime, and the name there. */
  from?: { id: string; name: string | null };
  /** Modules that use it, each with the names by which it does. */
  users: Map<Member, Set<string>>;
}

export interface ScopeInput {
  group: Group;
  members: readonly Member[];
  names: Names;
  units: ReadonlySet<Unit>;
  groupOf(id: string): Group | undefined;
  /** Whether programs may look at the name of a function or class. */
  isVisible(own: OwnName): boolean;
  /** Every variable has its name from the start. */
  isPlain: boolean;
  /** Programs may look at the names of functions and classes. */
  keepsNames: boolean;
}

/** The variables of a group with their names. */
export class GroupScope {
  readonly #input: ScopeInput;
  readonly #own = new Map<OwnName, Variable>();
  readonly #outer = new Map<string, Variable>();
  /** Every variable had its name from the start: nothing is made smaller. */
  readonly isPlain: boolean;
  readonly keepsNames: boolean;
  /** What the group calls its handle. */
  readonly handle: string;
  readonly #taken = new Set<string>();
  /** Wanted name -> the last number behind it that was given. */
  readonly #tried = new Map<string, number>();
  #numbers = 0;

  constructor(input: ScopeInput) {
    this.#input = input;
    this.isPlain = input.isPlain;
    this.keepsNames = input.keepsNames;
    for (const member of input.members) this.#collect(member);
    for (const { free } of input.members) for (const name of free) this.#taken.add(name);
    for (const word of reserved) this.#taken.add(word);
    const isUsed = (name: string) => this.#taken.has(name) || input.members.some((member) => isNameIn(member, name));
    this.handle = ['my', ...Array.from({ length: 1000 }, (_, index) => `my${index + 1}`)].find((name) => !isUsed(name))!;
    this.#taken.add(this.handle);
    for (const variable of this.variables()) if (input.isPlain || this.isNamed(variable)) variable.name = this.#nameFor(variable);
  }

  /** A number that is given once only. */
  nextNumber(): number {
    return this.#numbers++;
  }

  /** Whether programs can see the name, since a function or class has it. */
  isNamed({ own }: Variable): boolean {
    return own?.member.named.has(own.name) === true && this.#input.isVisible(own);
  }

  *variables(): Generator<Variable> {
    yield* this.#own.values();
    yield* this.#outer.values();
  }

  outer(): Iterable<Variable> {
    return this.#outer.values();
  }

  /** The variable of something that one of the modules uses. */
  variableOf(found: Found): Variable {
    if ('own' in found && this.#isHere(found.own.member)) return this.#own.get(found.own) ?? this.#addOwn(found.own);
    const from = this.source(found);
    const key = `${from.id}\0${from.name === null ? '*' : `.${from.name}`}`;
    const known = this.#outer.get(key);
    if (known) return known;
    const name = from.name === null || from.name === 'default' ? nameOfFile(from.id) : from.name;
    const variable: Variable = { wanted: asIdentifier('own' in found ? wantedFor(found.own) : name), from, users: new Map() };
    this.#outer.set(key, variable);
    return variable;
  }

  /** Where the runtime finds something of another group, or of a module that has its scope for itself. */
  source(found: Found): { id: string; name: string | null } {
    if ('namespace' in found) return { id: this.#input.groupOf(found.namespace)?.id ?? found.namespace, name: null };
    if ('outer' in found) return { id: found.outer, name: found.name };
    return { id: this.#input.groupOf(found.own.member.id)!.id, name: innerName(found.own) };
  }

  isHere(found: Found): boolean {
    return 'own' in found && this.#isHere(found.own.member);
  }

  /** Gives the variables that have none yet the shortest names, the most used first. `wordsOf` are the words of a module as printed. */
  nameRest(uses: ReadonlyMap<Variable, number>, wordsOf: ReadonlyMap<Member, ReadonlySet<string>>): void {
    const rest = [...this.variables()].filter(({ name }) => name === undefined);
    const order = new Map(rest.map((variable, index) => [variable, index]));
    rest.sort((a, b) => (uses.get(b) ?? 0) - (uses.get(a) ?? 0) || order.get(a)! - order.get(b)!);
    const names = shortNames();
    const spare: string[] = [];
    for (const variable of rest) {
      const isFree = (name: string) => ![...variable.users.keys()].some((member) => wordsOf.get(member)?.has(name));
      const at = spare.findIndex(isFree);
      if (at !== -1) {
        variable.name = spare.splice(at, 1)[0]!;
        continue;
      }
      while (variable.name === undefined) {
        const name = names.next().value!;
        if (this.#taken.has(name)) continue;
        if (isFree(name)) variable.name = name;
        else if (spare.length < 60) spare.push(name);
      }
    }
  }

  #isHere(member: Member): boolean {
    return this.#input.groupOf(member.id) === this.#input.group;
  }

  #addOwn(own: OwnName): Variable {
    const variable: Variable = { wanted: wantedFor(own), own, users: new Map([[own.member, new Set([own.name])]]) };
    this.#own.set(own, variable);
    return variable;
  }

  #collect(member: Member): void {
    const { names, units } = this.#input;
    for (const unit of member.units) {
      if (!units.has(unit)) continue;
      for (const name of unit.declares) this.variableOf({ own: names.own(member, name) });
      for (const { reference, found, end, text } of names.reads(member, unit)) {
        if (text !== undefined) continue;
        const { users } = this.variableOf(found);
        const locals = users.get(member) ?? new Set();
        // What a member chain is replaced by has no name there yet.
        users.set(member, locals.add(end === reference.end ? reference.name : ''));
      }
    }
  }

  #nameFor(variable: Variable): string {
    const { wanted, users } = variable;
    const mayBe = (name: string) =>
      !this.#taken.has(name) &&
      [...users].every(([member, locals]) => !member.inner.has(name) || [...locals].every((local) => local === name));
    const head = /\d$/.test(wanted) ? `${wanted}_` : wanted;
    // Thousands of modules may call something the same: the numbers that others have are not tried again.
    let number = this.#tried.get(wanted) ?? 0;
    let name = number === 0 ? wanted : `${head}${number}`;
    while (!mayBe(name)) name = `${head}${++number}`;
    this.#tried.set(wanted, number);
    this.#taken.add(name);
    return name;
  }
}

/** Whether a module has a name, or one that is made of it for more than one of a kind. */
function isNameIn({ text }: Member, name: string): boolean {
  return text.includes(name) && new RegExp(`(?<![\\w$])${name}(?:_\\d+)?(?![\\w$])`).test(text);
}

/** The name under which other groups find one of a module. It doesn't depend on anything but where it stands. */
export function innerName(own: OwnName): string {
  own.inner ??= `$${shortHash(own.member.id, own.name)}`;
  return own.inner;
}

function wantedFor({ member, name }: OwnName): string {
  return name === defaultName ? asIdentifier(nameOfFile(member.id)) : name;
}

function nameOfFile(id: string): string {
  return /([^/]*?)(?:\.\w+)?(?:\?.*)?$/.exec(id)![1]!.replace(/-(\w)/g, (_, letter: string) => letter.toUpperCase());
}

function asIdentifier(text: string): string {
  const name = text.replace(/[^\w$]/g, '_');
  return name === '' || /^\d/.test(name) || reserved.has(name) ? `_${name}` : name;
}

const reserved = new Set(
  'break case catch class const continue debugger default delete do else enum export extends false finally for function if implements import in instanceof interface let new null package private protected public return static super switch this throw true try typeof var void while with yield await arguments eval undefined NaN Infinity'.split(
    ' ',
  ),
);

const firsts = 'abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ$_';
const others = `${firsts}0123456789`;

/** Identifiers, shortest first. */
function* shortNames(): Generator<string, never> {
  for (let length = 1; ; length++) {
    const count = firsts.length * others.length ** (length - 1);
    for (let number = 0; number < count; number++) {
      let name = firsts[number % firsts.length]!;
      let rest = Math.floor(number / firsts.length);
      for (let at = 1; at < length; at++) {
        name += others[rest % others.length];
        rest = Math.floor(rest / others.length);
      }
      if (!reserved.has(name)) yield name;
    }
  }
}
