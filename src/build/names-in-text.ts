import type { PrintedGroup } from '../core/bundle/bundle.js';
import { type Mark, marksIn } from '../core/bundle/marks.js';
import type { Member } from '../core/bundle/member.js';
import type { PrintedMember } from '../core/bundle/print-member.js';
import type { Variable } from '../core/bundle/scope.js';
import { type MappedText, replaced } from './mapped.js';

// The texts of modules that haven't changed are those of the build before, so that what was found in them counts for the next one too.
const knownWords = new WeakMap<MappedText, Set<string>>();
const knownMarks = new WeakMap<MappedText, readonly Mark[]>();
const knownNamed = new WeakMap<MappedText, { names: readonly string[]; inMap: readonly string[]; made: MappedText }>();

/** Gives the variables that have no name yet the shortest ones that none of their users has otherwise. */
export function nameRest({ scope, members }: PrintedGroup, texts: readonly MappedText[]): void {
  const uses = new Map<Variable, number>();
  const words = new Map<Member, Set<string>>();
  members.forEach((printed, index) => {
    const mapped = texts[index]!;
    for (const mark of marksOf(mapped, printed)) {
      const variable = printed.marked[mark.index]!;
      uses.set(variable, (uses.get(variable) ?? 0) + 1);
    }
    words.set(printed.member, wordsOf(mapped));
  });
  scope.nameRest(uses, words);
}

/** The text of a module with names in the place of marks. */
export function named(mapped: MappedText, printed: PrintedMember): MappedText {
  const { mark, marked, member } = printed;
  const marks = marksOf(mapped, printed);
  if (marks.length === 0) return mapped;
  const names = marks.map(({ index }) => marked[index]!.name!);
  const inMap = (mapped.map?.names ?? []).map((name) => {
    const index = name.startsWith(mark) && name.endsWith('$') ? Number(name.slice(mark.length, -1)) : -1;
    const [local] = marked[index]?.users.get(member) ?? [];
    return local || marked[index]?.wanted || name;
  });
  const known = knownNamed.get(mapped);
  if (known && areSame(known.names, names) && areSame(known.inMap, inMap)) return known.made;
  const replacements = marks.map(({ start, end }, at) => ({ start, end, text: names[at]! }));
  const made = replaced(mapped, replacements, inMap);
  knownNamed.set(mapped, { names, inMap, made });
  return made;
}

/** What may be a name in a text. */
function wordsOf(mapped: MappedText): Set<string> {
  const words = knownWords.get(mapped) ?? new Set(mapped.text.match(/[\p{ID_Continue}$]+/gu) ?? []);
  knownWords.set(mapped, words);
  return words;
}

function marksOf(mapped: MappedText, printed: PrintedMember): readonly Mark[] {
  const marks = knownMarks.get(mapped) ?? marksIn(mapped.text, printed);
  knownMarks.set(mapped, marks);
  return marks;
}

function areSame(some: readonly string[], others: readonly string[]): boolean {
  return some.length === others.length && some.every((text, at) => text === others[at]);
}
