import { touchEdits } from '../link/module-analysis.js';
import type { Spanned } from '../link/tree.js';
import { defaultName } from './default-name.js';
import type { Member, Place, Unit } from './member.js';
import type { Names, Read } from './names.js';
import { PrintedText } from './printed-text.js';
import type { GroupScope, Variable } from './scope.js';

/** A module as it stands among others, with marks in the place of names that aren't known yet. */
export interface PrintedMember {
  member: Member;
  text: PrintedText;
  /** What marks begin with; behind it the index in `marked`, and `$`. */
  mark: string;
  marked: Variable[];
  /** Names of functions that are called something else now, to be set before anything runs. */
  renamed: { variable: Variable; name: string }[];
}

export interface MemberPrinting {
  member: Member;
  names: Names;
  scope: GroupScope;
  units: ReadonlySet<Unit>;
  /** Names under which others see an own name, so that they are told of assignments. */
  seenAs(own: string): readonly string[];
  /** For checked groups: the place of a variable from elsewhere among the bindings. */
  checkedPlace: ((variable: Variable) => number | undefined) | undefined;
  /** The place of a URL among those of the module. */
  urlPlace(specifier: string, isWorker: boolean): number;
  /** Its functions may run before it does, as on a circle. */
  mayBeEarly: boolean;
}

/** Prints what is left of a module. */
export function printMember(printing: MemberPrinting): PrintedMember {
  return new Printer(printing).print();
}

class Printer {
  readonly #printing: MemberPrinting;
  readonly #text: PrintedText;
  readonly #mark: string;
  readonly #marked: Variable[] = [];
  readonly #marks = new Map<Variable, number>();
  readonly #renamed: PrintedMember['renamed'] = [];

  constructor(printing: MemberPrinting) {
    this.#printing = printing;
    const { text } = printing.member;
    this.#text = new PrintedText(text);
    let mark = '_$';
    for (let number = 0; text.includes(mark); number++) mark = `_$${number.toString(36)}$`;
    this.#mark = mark;
  }

  print(): PrintedMember {
    const { member, units } = this.#printing;
    const kept = member.units.filter((unit) => units.has(unit));
    let at = 0;
    for (const unit of kept) {
      if (unit.start > at) this.#text.update(at, unit.start, at === 0 ? '' : '\n');
      this.#unit(unit);
      at = unit.end;
    }
    if (at < member.text.length) this.#text.update(at, member.text.length, '');
    return { member, text: this.#text.finished(member.units), mark: this.#mark, marked: this.#marked, renamed: this.#renamed };
  }

  #unit(unit: Unit): void {
    const { member, names } = this.#printing;
    const { start, end } = unit;
    for (const branch of names.deadIn(member, unit)) {
      const hoisted = branch.hoisted.map((name) => (unit.declares.includes(name) ? this.#nameOf(name) : name));
      const list = hoisted.length > 0 ? ` var ${hoisted.join(', ')}; ` : '';
      this.#text.update(branch.start, branch.end, branch.standIn === '' ? `{${list}}` : branch.standIn);
    }
    for (const read of names.reads(member, unit)) this.#reference(read);
    for (const place of names.places(member, unit)) this.#place(place);
    const written = new Set(unit.references.filter(({ isWrite }) => isWrite).map(({ name }) => name));
    for (const own of unit.declares) this.#named(own, unit);
    for (const own of new Set([...unit.declares, ...written])) this.#values(own, unit);
    // Within what tells others of it.
    this.#guard(unit);
    for (const own of written) this.#touch(own, unit);
    if (unit.keyword) this.#text.prependRight(start, `${unit.keyword} `);
    const isClosed = !unit.keyword && /[;]$/.test(member.text.slice(start, end));
    if (!isClosed) this.#text.appendLeft(end, ';');
  }

  /** The text that stands for a variable: its name, or a mark. */
  #textOf(variable: Variable): string {
    if (variable.name !== undefined) return variable.name;
    const index = this.#marks.get(variable) ?? this.#marked.push(variable) - 1;
    this.#marks.set(variable, index);
    return `${this.#mark}${index}$`;
  }

  #variable(own: string): Variable {
    const { names, member, scope } = this.#printing;
    return scope.variableOf({ own: names.own(member, own) });
  }

  #nameOf(own: string): string {
    return this.#textOf(this.#variable(own));
  }

  #reference({ reference, found, end, text: folded }: Read): void {
    const { member, scope, checkedPlace } = this.#printing;
    const { start, name, isShorthand, isNewed } = reference;
    let text = folded ?? '';
    if (folded === undefined) {
      const variable = scope.variableOf(found);
      text = this.#textOf(variable);
      const place = reference.isWrite ? undefined : checkedPlace?.(variable);
      if (place !== undefined) {
        const asked = `${scope.handle}.ok(${place}, ${JSON.stringify(name)}, ${text})`;
        text = isNewed ? `(${asked})` : asked;
      }
    }
    if (isShorthand && text !== name) text = `${name}: ${text}`;
    if (text !== member.text.slice(start, end))
      this.#text.update(start, end, text, { storeName: folded === undefined && end === reference.end });
  }

  #place(place: Place): void {
    const { scope, member, urlPlace } = this.#printing;
    const { start, end } = place;
    const part = `${scope.handle}.of(${JSON.stringify(member.id)})`;
    switch (place.kind) {
      case 'gone':
        return void this.#text.update(start, end, '');
      case 'default':
        return void this.#text.update(start, end, `const ${this.#nameOf(defaultName)} =`);
      case 'name':
        return void this.#text.appendLeft(start, ` ${this.#nameOf(defaultName)}`);
      case 'meta':
        return void this.#text.update(start, end, `${part}.meta`);
      case 'dynamic':
        return void this.#text.update(start, end, `${part}.get`);
      case 'pattern':
        // A minifier takes the place of what stands before for that of the name.
        if (!scope.isPlain) this.#twice(start, end);
        return;
      case 'url': {
        const at = urlPlace(place.specifier, place.isWorker);
        if (at !== -1) this.#text.update(start, end, `${part}.at(${at})`);
        return;
      }
      case 'urls':
        this.#text.appendLeft(start, `${part}.pathOf(`);
        return void this.#text.appendRight(end, ')');
      case 'branch':
        return this.#branch(place);
      case 'text':
        if (start === end) this.#text.appendLeft(start, place.text);
        else this.#text.update(start, end, place.text);
    }
  }

  #twice(start: number, end: number): void {
    const name = this.#printing.member.text.slice(start, end);
    this.#text.update(start, end, `${name}: ${name}`, { storeName: true });
  }

  #branch({ start, end, name, isOwn, isBare }: Place & { kind: 'branch' }): void {
    const { member, scope, seenAs } = this.#printing;
    if (scope.isPlain || !scope.keepsNames) return;
    const isSeen = isOwn ? scope.isNamed(this.#variable(name)) : member.kept.values.includes(name);
    // What has its name from elsewhere, or is told to others, is no mere assignment.
    if (!isSeen || (isOwn && (this.#nameToKeep(name) !== undefined || seenAs(name).length > 0))) return;
    this.#text.prependRight(start, `${isBare ? '' : '('}${isOwn ? this.#nameOf(name) : name} = 0, `);
    if (!isBare) this.#text.appendLeft(end, ')');
  }

  /** Functions and classes keep the name that programs see, whatever the variable is called. */
  #named(own: string, unit: Unit): void {
    const { kind } = this.#printing.member.named.get(own) ?? {};
    const name = this.#nameToKeep(own);
    if (name === undefined) return;
    if (kind === 'function') this.#renamed.push({ variable: this.#variable(own), name });
    else if (kind === 'class') this.#class(own, name, unit);
  }

  /** The same for what takes its name from the variable that it's assigned to. */
  #values(own: string, unit: Unit): void {
    const { member, names, scope } = this.#printing;
    const { values = [] } = member.named.get(own) ?? {};
    const here = values.filter(({ start }) => start >= unit.start && start < unit.end && !names.isDead(member, start));
    const name = here.length > 0 ? this.#nameToKeep(own) : undefined;
    if (name === undefined) return;
    for (const { start, end } of here) {
      this.#text.prependRight(start, `${scope.handle}.named(`);
      this.#text.appendLeft(end, `, ${JSON.stringify(name)})`);
    }
  }

  /** The name that programs can see, where the variable is called something else. */
  #nameToKeep(own: string): string | undefined {
    const { member, scope } = this.#printing;
    if (!member.named.has(own)) return undefined;
    const variable = this.#variable(own);
    const name = own === defaultName ? 'default' : own;
    return variable.name === name || !scope.isNamed(variable) ? undefined : name;
  }

  #class(own: string, name: string, unit: Unit): void {
    const { member, names, scope } = this.#printing;
    const variable = this.#variable(own);
    const at = names.places(member, unit).find(({ kind, start }) => kind === 'gone' && start === unit.start)?.end ?? unit.start;
    const declared = unit.references.find((reference) => reference.name === own && reference.isWrite);
    const isTaken = names
      .reads(member, unit)
      .some(({ found, text }) => text === undefined && scope.variableOf(found).name === name);
    if (declared && member.text.startsWith('class', at) && !isTaken) {
      // The class keeps its name inside; a variable of the other name holds it.
      this.#text.prependRight(at, `let ${this.#textOf(variable)} = `);
      this.#text.update(declared.start, declared.end, own);
      return;
    }
    this.#text.appendLeft(
      unit.end,
      `; ${scope.handle}.named(${this.#textOf(variable)}, ${JSON.stringify(name)}, ${JSON.stringify(variable.name)});`,
    );
  }

  /**
   * Keeps a minifier from putting the value of a constant everywhere: a function that reads it too early has to fail, as in the standard. It
   * doesn't look into lists.
   */
  #guard(unit: Unit): void {
    const { member, scope, mayBeEarly } = this.#printing;
    if (scope.isPlain || !mayBeEarly) return;
    for (const own of unit.declares) {
      const init = member.constants.get(own) as Spanned | undefined;
      const id = unit.references.find(({ name, isWrite }) => isWrite && name === own);
      if (!init || !id || id.end > init.start) continue;
      for (const { start, end } of [id, init]) this.#text.prependRight(start, '[').appendLeft(end, ']');
    }
  }

  /** Others are told of an assignment to what they see. */
  #touch(own: string, unit: Unit): void {
    const { member, names, scope, seenAs, checkedPlace } = this.#printing;
    const seen = seenAs(own);
    if (seen.length === 0) return;
    for (const { target, isInit } of member.writes.get(own) ?? []) {
      if (target.start < unit.start || target.end > unit.end || names.isDead(member, target.start) || (isInit && !checkedPlace))
        continue;
      for (const edit of touchEdits(target, [...seen], scope.nextNumber(), { handle: scope.handle })) {
        if (edit.start === target.start) this.#text.prependRight(edit.start, edit.text);
        else this.#text.appendLeft(edit.end, edit.text);
      }
    }
  }
}
