import { expect, test } from '@jest/globals';
import type { Found } from '../../src/core/bundle/exports.js';
import type { ImportedName, Member } from '../../src/core/bundle/member.js';
import { Names } from '../../src/core/bundle/names.js';

/** A module: the ones that it names, those of them that it passes on whole, its own names, and names of others. */
interface Pier {
  targets: string[];
  stars: number[];
  exported: Map<string, string>;
  passedOn: Map<string, ImportedName>;
}

/** ResolveExport as the standard has it (ECMA-262, 16.2.1.7.2.2). */
function standard(piers: ReadonlyMap<string, Pier>, id: string, name: string, asked: Set<string>): string | null {
  const { exported, passedOn, stars, targets } = piers.get(id)!;
  if (asked.has(`${id} ${name}`)) return null;
  asked.add(`${id} ${name}`);
  if (exported.has(name)) return `${id} ${name}`;
  const passed = passedOn.get(name);
  if (passed) {
    const target = targets[passed.from]!;
    return passed.name === null ? `all of ${target}` : standard(piers, target, passed.name, asked);
  }
  if (name === 'default') return null;
  let star: string | null = null;
  for (const at of stars) {
    const found = standard(piers, targets[at]!, name, asked);
    if (found === 'ambiguous' || (found !== null && star !== null && star !== found)) return 'ambiguous';
    star = found ?? star;
  }
  return star;
}

function shown(found: Found | null): string | null {
  if (found === null) return null;
  return 'own' in found ? `${found.own.member.id} ${found.own.name}` : `all of ${'namespace' in found ? found.namespace : ''}`;
}

test('names come from where the standard finds them, over stars, in circles, and nowhere where two say something else', () => {
  let seed = 4;
  const any = (below: number) => {
    seed = (Math.imul(seed, 1103515245) + 12345) & 0x7fffffff;
    return (seed >> 8) % below;
  };
  const names = ['ebb', 'flood', 'tide', 'default'];
  let ambiguous = 0;
  const wrong: unknown[] = [];
  for (let round = 0; round < 400; round++) {
    // Some have more stars than are followed one after another.
    const isWide = round % 4 === 0;
    const count = 2 + any(isWide ? 14 : 6);
    const piers = new Map<string, Pier>();
    for (let id = 0; id < count; id++) {
      const targets = Array.from({ length: 1 + any(isWide ? 13 : 3) }, () => String(any(count)));
      const exported = new Map(names.filter(() => any(4) === 0).map((name) => [name, name]));
      const others = names.filter((name) => !exported.has(name) && any(3) === 0);
      const passedOn = new Map(
        others.map((name) => [name, { from: any(targets.length), name: any(6) === 0 ? null : names[any(4)]! }]),
      );
      piers.set(String(id), {
        targets,
        stars: targets.flatMap((_, at) => (isWide || any(3) > 0 ? [at] : [])),
        exported,
        passedOn,
      });
    }
    const members = new Map(
      [...piers].map(([id, { stars, exported, passedOn }]) => {
        return [id, { id, stars, exported, passedOn, own: new Set(exported.keys()), units: [] } as unknown as Member];
      }),
    );
    const never = () => false;
    const resolved = new Names({
      members,
      targets: ({ id }) => piers.get(id)!.targets,
      constants: {},
      isOnCycle: never,
      mayBeInWorker: never,
      isNodeDefault: never,
      isFixed: never,
      isData: never,
    });
    for (const id of piers.keys())
      for (const name of names) {
        const wanted = standard(piers, id, name, new Set());
        if (wanted === 'ambiguous') ambiguous++;
        const found = shown(resolved.exports.resolve(id, name));
        if (found !== (wanted === 'ambiguous' ? null : wanted)) wrong.push([round, id, name, wanted, found]);
      }
  }
  expect(wrong).toEqual([]);
  expect(ambiguous).toBeGreaterThan(100);
});
