import type { ImportRecord, Linked } from '../link/linked.js';

/** What checking an import needs to know of the modules around. */
export interface ImportCheck {
  linked(id: string): Linked | undefined;
  /** The module behind the n-th request of `id`. */
  target(id: string, request: number): string | undefined;
  /** Whether what a module passes on may be a type, as a translation of one file can't know: then nothing is there to be missed. */
  mayPassTypes(id: string): boolean;
  /** What was found out since the graph changed last, by module and name, and by module. */
  answers: Map<string, boolean>;
  /** Whether somebody makes a name to which those lead that pass it on. */
  made: Map<string, boolean>;
  wide: Map<string, BehindStars>;
}

/** What a module passes on by `export *`: names with the modules that may have them. */
interface BehindStars {
  targets: ReadonlyMap<string, readonly string[]>;
  /** One of the modules may export anything. */
  isOpen: boolean;
}

/** Whether others may get from a module what it doesn't make. */
export function passesOn({ stars, passedOn }: Linked): boolean {
  return stars.length > 0 || passedOn !== undefined;
}

/** Whether others may lack something of a module in its new form, as far as its own text says. What only became more is no loss. */
export function mayLack(before: Linked, after: Linked): boolean {
  const said = ({ format, stars, passedOn }: Linked) => JSON.stringify([format, stars, passedOn]);
  return said(before) !== said(after) || (before.exports ?? []).some((name) => !offersOf(after).names.has(name));
}

type PassedOn = NonNullable<Linked['passedOn']>[number];

/** What a module exports by name, for looking it up: some pass a thousand names on to a thousand others. */
function offersOf(linked: Linked): { names: ReadonlySet<string>; passedOn: ReadonlyMap<string, PassedOn> } {
  const known = offers.get(linked);
  if (known) return known;
  const made = {
    names: new Set(linked.exports),
    passedOn: new Map((linked.passedOn ?? []).map((passed) => [passed.exported, passed])),
  };
  offers.set(linked, made);
  return made;
}

const offers = new WeakMap<Linked, ReturnType<typeof offersOf>>();

/** An imported name that certainly isn't there. */
export interface MissingName {
  record: ImportRecord;
  /** The module that is asked. */
  from: string;
  /** Where that one passes the name on from, and what it's called there. */
  lacking?: { id: string; name: string };
  /** The names that the module exports that lacks it. */
  known: string[];
  /** The modules that pass the name on to each other, beginning with `from`, where none of them makes it. */
  circle?: string[];
}

/** The imported names of `id` that the other module certainly doesn't export. */
export function missingExports(id: string, check: ImportCheck): MissingName[] {
  const missing: MissingName[] = [];
  for (const record of check.linked(id)?.imports ?? []) {
    const from = check.target(id, record.request);
    if (from === undefined) continue;
    const circle = record.isPassedOn ? circleOf(id, record, check) : undefined;
    if (circle) missing.push({ record, from, known: [], circle });
    const mayBeType = record.isPassedOn && check.mayPassTypes(id);
    if (circle || mayBeType || isOffered(from, record.name, check)) continue;
    const lacking = lastAsked(from, record.name, check);
    const known = [...exportedNames(lacking.id, check)];
    missing.push({ record, from, known, ...(lacking.id === from ? {} : { lacking }) });
  }
  return missing;
}

/** A module that was asked for a name, and the ones that it asks itself. */
interface Asked {
  key: string;
  id: string;
  /** What the others are asked for. */
  name: string;
  ways: readonly (string | undefined)[];
  next: number;
}

/** The modules through which a name that `id` passes on comes back to it (ECMA-262, 16.2.1.7.2.2 ResolveExport). */
function circleOf(id: string, { request, name }: ImportRecord, check: ImportCheck): string[] | undefined {
  const seen = new Set<string>();
  let circle: string[] | undefined;
  let hasMetItself = false;
  /** `true` where the module makes the name, or may. */
  const ask = (at: string | undefined, wanted: string, way: readonly Asked[]): Asked | boolean => {
    const linked = at === undefined ? undefined : check.linked(at);
    if (at === undefined || !linked || linked.format === 'commonjs') return true;
    const key = keyOf(at, wanted);
    const isMade = check.made.get(key);
    if (isMade !== undefined) return isMade;
    const { names, passedOn } = offersOf(linked);
    const next = passedOn.get(wanted);
    if ((next && next.imported === null) || (!next && names.has(wanted))) return true;
    if (seen.has(key)) {
      hasMetItself = true;
      return false;
    }
    seen.add(key);
    if (next && at === id && next.request === request && next.imported === name) {
      circle ??= [...way.map((before) => before.id), at];
      return false;
    }
    if (next) return { key, id: at, name: next.imported!, ways: [check.target(at, next.request)], next: 0 };
    const ways = wanted === 'default' ? [] : linked.stars.map((star) => check.target(at, star));
    return { key, id: at, name: wanted, ways, next: 0 };
  };
  const found = firstYes(check.target(id, request), name, ask);
  // What leads to somebody who makes it needs not be followed again, nor what leads to nobody and into no circle.
  if (found) for (const { key } of found === true ? [] : found) check.made.set(key, true);
  else if (!hasMetItself && !circle) for (const key of seen) check.made.set(key, false);
  return found ? undefined : circle;
}

/**
 * Asks a module for a name, and those that it asks, until one says yes. No recursion: modules may pass names on thousands deep.
 * `saidNo` is told of each whose ways all said no. Returns whoever was asked on the way to the yes, the last one last; `true` where
 * that is nobody; `undefined` where all say no.
 */
function firstYes(
  target: string | undefined,
  name: string,
  ask: (target: string | undefined, name: string, way: readonly Asked[]) => Asked | boolean,
  saidNo: (asked: Asked) => void = () => {},
): Asked[] | true | undefined {
  const way: Asked[] = [];
  for (let answer = ask(target, name, way); ; ) {
    if (answer === true) return way.length === 0 || way;
    if (answer !== false) way.push(answer);
    let last = way.at(-1);
    while (last && last.next === last.ways.length) {
      saidNo(last);
      way.pop();
      last = way.at(-1);
    }
    if (!last) return undefined;
    answer = ask(last.ways[last.next++], last.name, way);
  }
}

/** Whether a module exports a name, or may do so for all that can be known before it runs. */
function isOffered(id: string, name: string, check: ImportCheck): boolean {
  /** What was found out on the way. */
  const seen = new Map<string, boolean>();
  let hasMetItself = false;
  const ask = (at: string | undefined, wanted: string): Asked | boolean => {
    const linked = at === undefined ? undefined : check.linked(at);
    if (at === undefined || !linked || linked.format === 'commonjs') return true;
    const key = keyOf(at, wanted);
    const known = seen.get(key);
    if (known !== undefined) {
      hasMetItself = true;
      return known;
    }
    const answer = check.answers.get(key);
    if (answer !== undefined) return answer;
    const { names, passedOn } = offersOf(linked);
    if (!names.has(wanted)) {
      seen.set(key, false);
      return wanted !== 'default' && { key, id: at, name: wanted, ways: waysByStar(at, linked, wanted, check), next: 0 };
    }
    const passed = check.mayPassTypes(at) ? passedOn.get(wanted) : undefined;
    // What others fail to pass on is told there, and so are circles.
    seen.set(key, true);
    if (!passed || passed.imported === null) return true;
    return { key, id: at, name: passed.imported, ways: [check.target(at, passed.request)], next: 0 };
  };
  const way = firstYes(id, name, ask, ({ key }) => seen.set(key, false));
  if (way === true) return true;
  // Where nobody has it, it's certain of all who were asked; else only of those who led to who does. On a circle, it depends on who was asked first.
  if (hasMetItself) return way !== undefined;
  for (const key of way ? way.map((asked) => asked.key) : seen.keys()) check.answers.set(key, way !== undefined);
  return way !== undefined;
}

/** So many stars are followed one after another. */
const fewStars = 8;

/** The modules to which `export *` leads that may have a name; `undefined` among them is one that may have any. */
function waysByStar(id: string, linked: Linked, name: string, check: ImportCheck): readonly (string | undefined)[] {
  if (linked.stars.length <= fewStars) return linked.stars.map((star) => check.target(id, star));
  const { isOpen, targets } = check.wide.get(id) ?? behindStars(id, linked, check);
  return isOpen ? [undefined] : (targets.get(name) ?? []);
}

function behindStars(id: string, linked: Linked, check: ImportCheck): BehindStars {
  const targets = new Map<string, string[]>();
  let isOpen = false;
  for (const star of linked.stars) {
    const target = check.target(id, star);
    isOpen ||= target === undefined || isOpenBehind(target, check);
    for (const name of target === undefined ? [] : exportedNames(target, check)) {
      const known = targets.get(name);
      if (known) known.push(target!);
      else targets.set(name, [target!]);
    }
  }
  const behind = { targets, isOpen };
  check.wide.set(id, behind);
  return behind;
}

/** Whether a module, or one to which its stars lead, may export anything. */
function isOpenBehind(id: string, check: ImportCheck): boolean {
  return [...behind(id, check)].some((at) => {
    const linked = at === undefined ? undefined : check.linked(at);
    return !linked || linked.format === 'commonjs';
  });
}

/** A module and all to which its stars lead, each before those behind it. */
function* behind(id: string, check: ImportCheck): Generator<string | undefined> {
  const seen = new Set<string | undefined>();
  const waiting: (string | undefined)[] = [id];
  while (waiting.length > 0) {
    const at = waiting.pop();
    if (seen.has(at)) continue;
    seen.add(at);
    yield at;
    const stars = at === undefined ? [] : (check.linked(at)?.stars ?? []);
    for (const star of stars.toReversed()) waiting.push(check.target(at!, star));
  }
}

/** The module to which a name leads that is passed on by name. */
function lastAsked(id: string, name: string, check: ImportCheck): { id: string; name: string } {
  const seen = new Set<string>();
  let asked = { id, name };
  for (;;) {
    const linked = check.linked(asked.id);
    const passed = linked && offersOf(linked).passedOn.get(asked.name);
    const target = passed && check.target(asked.id, passed.request);
    const key = keyOf(asked.id, asked.name);
    if (target === undefined || passed?.imported == null || seen.has(key)) return asked;
    seen.add(key);
    asked = { id: target, name: passed.imported };
  }
}

function exportedNames(id: string, check: ImportCheck): Set<string> {
  return new Set([...behind(id, check)].flatMap((at) => (at === undefined ? [] : (check.linked(at)?.exports ?? []))));
}

function keyOf(id: string, name: string): string {
  return `${id}\0${name}`;
}
