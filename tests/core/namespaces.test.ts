import { expect, test } from '@jest/globals';
import { originalPositionFor, TraceMap } from '@jridgewell/trace-mapping';
import { defaultScriptOptions } from '../../src/core/translate/script-options.js';
import { translateScript } from '../../src/core/translate/translate-script.js';

const source = `namespace Tide {
  export let level = 1, mark: number = 2;
  export var gauge: string;
  export let name!: string;
  export let { low, lows: [first] } = { low: 1, lows: [2] };
  export declare let none: number;
  export function rise() { level++; ({ level } = { level: level + 3 }); gauge = 'g'; name = 'n'; low += 5; return level; }
  export const shown = () => ({ level, low, hidden });
  export namespace Deep.Er { export let metres = level; metres += 2; }
  for (first of [7, 8]);
  let hidden = 0;
}
namespace Tide {
  export const risen = rise() + level;
  export namespace Deep.Er { export const again = metres; }
  export const own = ((level: number) => level + risen)(1);
  { const gauge = 'inner'; inner = gauge; }
}
var inner: string;
enum Berth { North = 1, South }
namespace Berth { export const sum = () => North + South; export let last = South; last++; }
function quay() { return quay.label; }
namespace quay { export let label = 'x'; label += 'y'; }
const level = 'outer';
namespace _own2 { begin(); export let begun: number; export let never: number; function begin() { begun = 1; } }
export var early: string;
namespace Other { export const seen = level; }
namespace Übung { export let [late] = [1]; late++; }
Tide.mark = 20;
const said = [Tide, Tide.shown(), Berth.sum(), Berth.last, quay(), inner, Other.seen, Übung.late, _own2, typeof early];
`;

test.each([2015, 2020, undefined])(
  'names in namespaces of TypeScript mean what they do there, in ECMAScript %s too',
  async (edition) => {
    const targets = edition === undefined ? undefined : { edition };
    const made = await translateScript(source, {
      id: 'tide.ts',
      inPackage: false,
      mode: 'production',
      refresh: false,
      options: defaultScriptOptions,
      targets,
    });
    if ('code' in made) throw new Error(made.message);
    const said: unknown = new Function(
      `${made.text.replace(/^import .*$/gm, '').replace(/^export /gm, '')}; return JSON.stringify(said);`,
    )();
    expect(JSON.parse(String(said))).toEqual([
      {
        level: 5,
        mark: 20,
        gauge: 'g',
        name: 'n',
        low: 6,
        first: 8,
        Deep: { Er: { metres: 3, again: 3 } },
        risen: 10,
        own: 11,
      },
      { level: 5, low: 6, hidden: 0 },
      3,
      3,
      'xy',
      'inner',
      'outer',
      2,
      { begun: 1 },
      'undefined',
    ]);
    const lines = made.text.split('\n');
    const line = lines.findIndex((text) => text.includes('.gauge = "g"'));
    const place = { line: line + 1, column: lines[line]!.indexOf('= "g"') + 2 };
    const found = originalPositionFor(new TraceMap(made.map as never), place);
    expect(source.split('\n')[found.line! - 1]!.slice(found.column!)).toMatch(/^'g'/);
  },
);
