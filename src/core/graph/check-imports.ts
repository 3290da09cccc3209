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
    const known = [...exportedNames(lacking.id, check, new Set())];
    missing.push({ record, from, known, ...(lacking.id === from ? {} : { lacking }) });
  }
  return missing;
}

/** The modules through which a name that `id` passes on comes back to it (ECMA-262, 16.2.1.7.2.2 ResolveExport). */
function circleOf(id: string, { request, name }: ImportRecord, check: ImportCheck): string[] | undefined {
  const seen = new Set<string>();
  /** `true` where some module makes the name, or may. */
  const follow = (at: string | undefined, wanted: string, way: readonly string[]): string[] | true | undefined => {
    const linked = at === undefined ? undefined : check.linked(at);
    if (at === undefined || !linked || linked.format === 'commonjs') return true;
    const { names, passedOn } = offersOf(linked);
    const next = passedOn.get(wanted);
    if ((next && next.imported === null) || (!next && names.has(wanted))) return true;
    if (seen.has(`${at}\0${wanted}`)) return undefined;
    seen.add(`${at}\0${wanted}`);
    const on = [...way, at];
    if (next && at === id && next.request === request && next.imported === name) return on;
    if (next) return follow(check.target(at, next.request), next.imported!, on);
    const ways = wanted === 'default' ? [] : linked.stars.map((star) => follow(check.target(at, star), wanted, on));
    return ways.includes(true) ? true : ways.find((found) => found !== undefined);
  };
  const found = follow(check.target(id, request), name, []);
  return found === true ? undefined : found;
}

function isOffered(id: string, name: string, check: ImportCheck): boolean {
  const key = `${id}\0${name}`;
  // Only whole answers count for others: on a circle, those on the way are parts of one.
  const may = check.answers.get(key) ?? mayExport(id, name, check, new Map());
  check.answers.set(key, may);
  return may;
}

/** Whether a module exports a name, or may do so for all that can be known before it runs. `seen`: what was found out on the way. */
function mayExport(id: string, name: string, check: ImportCheck, seen: Map<string, boolean>): boolean {
  const key = `${id}\0${name}`;
  const known = seen.get(key);
  if (known !== undefined) return known;
  const linked = check.linked(id);
  if (!linked || linked.format === 'commonjs') return true;
  const { names, passedOn } = offersOf(linked);
  if (!names.has(name)) {
    seen.set(key, false);
    const may = name !== 'default' && mayComeByStar({ id, linked, name, check, seen });
    seen.set(key, may);
    return may;
  }
  const passed = check.mayPassTypes(id) ? passedOn.get(name) : undefined;
  const target = passed && check.target(id, passed.request);
  // What others fail to pass on is told there, and so are circles.
  seen.set(key, true);
  if (!passed || passed.imported === null || target === undefined) return true;
  const may = mayExport(target, passed.imported, check, seen);
  seen.set(key, may);
  return may;
}

/** So many stars are followed one after another. */
const fewStars = 8;

interface ByStar {
  id: string;
  linked: Linked;
  name: string;
  check: ImportCheck;
  seen: Map<string, boolean>;
}

function mayComeByStar({ id, linked, name, check, seen }: ByStar): boolean {
  if (linked.stars.length <= fewStars)
    return linked.stars.some((star) => {
      const target = check.target(id, star);
      return target === undefined || mayExport(target, name, check, seen);
    });
  const { isOpen, targets } = check.wide.get(id) ?? behindStars(id, linked, check);
  return isOpen || (targets.get(name)?.some((target) => mayExport(target, name, check, seen)) ?? false);
}

function behindStars(id: string, linked: Linked, check: ImportCheck): BehindStars {
  const targets = new Map<string, string[]>();
  let isOpen = false;
  for (const star of linked.stars) {
    const target = check.target(id, star);
    isOpen ||= target === undefined || mayExportAnything(target, check, new Set([id]));
    for (const name of target === undefined ? [] : exportedNames(target, check, new Set([id]))) {
      const known = targets.get(name);
      if (known) known.push(target!);
      else targets.set(name, [target!]);
    }
  }
  const behind = { targets, isOpen };
  check.wide.set(id, behind);
  return behind;
}

function mayExportAnything(id: string, check: ImportCheck, seen: Set<string>): boolean {
  if (seen.has(id)) return false;
  seen.add(id);
  const linked = check.linked(id);
  if (!linked || linked.format === 'commonjs') return true;
  return linked.stars.some((star) => {
    const target = check.target(id, star);
    return target === undefined || mayExportAnything(target, check, seen);
  });
}

/** The module to which a name leads that is passed on by name. */
function lastAsked(id: string, name: string, check: ImportCheck): { id: string; name: string } {
  const linked = check.linked(id);
  const passed = linked && offersOf(linked).passedOn.get(name);
  const target = passed && check.target(id, passed.request);
  return target === undefined || passed?.imported == null ? { id, name } : lastAsked(target, passed.imported, check);
}

function exportedNames(id: string, check: ImportCheck, seen: Set<string>): Set<string> {
  const linked = check.linked(id);
  const names = new Set(linked?.exports);
  if (!linked || seen.has(id)) return names;
  seen.add(id);
  for (const request of linked.stars) {
    const target = check.target(id, request);
    if (target !== undefined) for (const name of exportedNames(target, check, seen)) names.add(name);
  }
  return names;
}
