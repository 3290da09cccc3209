import { expect, test } from '@jest/globals';
import { decode, encode, type SourceMapSegment } from '@jridgewell/sourcemap-codec';
import { originalPositionFor, TraceMap } from '@jridgewell/trace-mapping';
import { applyEdits } from '../../src/core/link/edits.js';
import { movedMappings } from '../../src/core/maps/complete-mappings.js';
import { chainMaps, type RawMap } from '../../src/core/maps/raw-map.js';
import { lineFeedStarts } from '../../src/core/text/line-index.js';
import { randomNumbers } from '../support/random-program.js';

const columns = [0, 3, 5, 9, 14, 20];

test('a chained map leads where the two lead one after another, in whatever order their mappings stand', () => {
  const number = randomNumbers(7);
  const randomMap = (sources: string[]): RawMap => {
    const names = ['berth', 'quay', 'tide'];
    const segment = (column: number): SourceMapSegment => {
      if (number(6) === 0) return [column];
      const place = [column, number(sources.length), number(4), columns[number(columns.length)]!] as const;
      return number(3) === 0 ? [...place, number(names.length)] : [...place];
    };
    const line = () => columns.filter(() => number(3) > 0).map(segment);
    const lines = Array.from({ length: 4 }, () => (number(2) ? line() : line().reverse()));
    return { version: 3, sources, names, mappings: encode(lines) };
  };
  for (let round = 0; round < 100; round++) {
    const outer = randomMap(['made.js']);
    const inner = randomMap(['./board.ts', 'pages/../sign.ts']);
    const [chained, first, second] = [
      new TraceMap(chainMaps(outer, inner) as never),
      new TraceMap(outer as never),
      new TraceMap(inner as never),
    ];
    for (let line = 1; line <= 4; line++) {
      for (const column of columns) {
        const between = originalPositionFor(first, { line, column });
        const place = between.line === null ? between : originalPositionFor(second, between);
        // What leads nowhere by a segment that has no mapping at all is a gap: the one before it goes on.
        if (place.line === null) continue;
        expect(originalPositionFor(chained, { line, column })).toEqual({ ...place, name: place.name ?? between.name });
      }
    }
  }
});

test('what is put in behind a line separator moves the line that the map counts, where that counts LF alone', () => {
  const text = 'a\u2028b\nlet held = 0;\n';
  const at = text.indexOf('0');
  const { text: made, shifts } = applyEdits(text, [{ start: at, end: at, text: 'kept(' }], lineFeedStarts);
  expect(made).toContain('held = kept(0;');
  expect(
    decode(
      movedMappings(
        encode([
          [[0, 0, 0, 0]],
          [
            [4, 0, 1, 4],
            [11, 0, 1, 11],
          ],
        ]),
        shifts,
      ),
    )[1],
  ).toEqual([
    [4, 0, 1, 4],
    [16, 0, 1, 11],
  ]);
});
