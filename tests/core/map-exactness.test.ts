import { readdirSync, readFileSync, statSync } from 'node:fs';
import { join, relative } from 'node:path';
import { beforeAll, expect, test } from '@jest/globals';
import { decode, encode, type SourceMapSegment } from '@jridgewell/sourcemap-codec';
import { init, parse } from 'es-module-lexer';
import { joinedMap } from '../../src/build/mapped.js';
import { linkCommonJs } from '../../src/core/link/link-commonjs.js';
import { linkModule } from '../../src/core/link/link-module.js';
import { completeMappings } from '../../src/core/maps/complete-mappings.js';
import { keepMap } from '../../src/core/maps/kept-map.js';
import { moduleMap } from '../../src/core/maps/module-map.js';
import { OwnOrigin, through } from '../../src/core/maps/origin.js';
import { readMappings } from '../../src/core/maps/segments.js';
import { writeMappings } from '../../src/core/maps/write-mappings.js';
import { SourceText } from '../../src/core/text/source-text.js';
import { defaultScriptOptions } from '../../src/core/translate/script-options.js';
import { translateScript } from '../../src/core/translate/translate-script.js';
import { checkMap, type MapCheck } from '../support/map-check.js';
import { full } from '../support/sizes.js';
import { repository } from '../support/workspace.js';

beforeAll(() => init());

/** Translates and links a file as the dev server does, and checks the map of what comes out. */
async function checkFile(file: string): Promise<MapCheck | undefined> {
  const source = readFileSync(file, 'utf8');
  const id = relative(repository, file);
  const translated = await translateScript(source, {
    id,
    inPackage: true,
    mode: 'development' as const,
    refresh: true,
    options: defaultScriptOptions,
  });
  if ('code' in translated) return undefined;
  const text = translated.text.replace(/^\uFEFF/, ' ').replace(/^( ?)#!/, '$1//');
  const input = { text, handle: translated.handle, constants: { 'process.env.NODE_ENV': '"development"' } };
  try {
    const [, , , isModule] = parse(text);
    const linked = await (isModule ? linkModule(input) : linkCommonJs(input));
    const map = translated.map ? { map: keepMap(translated.map) } : {};
    const { mappings } = JSON.parse(
      moduleMap({
        source: new SourceText(source),
        sourceUrl: '/x',
        shifts: linked.shifts,
        code: linked.code,
        ignored: false,
        ...map,
      }),
    );
    return checkMap({ source, generated: `(${linked.code})`, mappings, bodyLine: 1 });
  } catch {
    return undefined; // not JavaScript at all, such as a template; the linker has tests of its own
  }
}

function* filesBelow(folder: string, wanted: RegExp): Generator<string> {
  for (const name of readdirSync(folder)) {
    const path = join(folder, name);
    const stats = statSync(path, { throwIfNoEntry: false });
    if (stats?.isDirectory() && name !== 'typescript') yield* filesBelow(path, wanted);
    else if (stats?.isFile() && stats.size < 200_000 && wanted.test(path)) yield path;
  }
}

interface Language {
  name: string;
  folder: string;
  files: RegExp;
  /** Share of the words that are mapped to themselves, of all that have a place in the source. */
  aim: number;
}

const languages: Language[] = [
  { name: 'TSX of the demo', folder: 'demo/src', files: /\.tsx$/, aim: 1 },
  { name: 'TypeScript of the demo', folder: 'demo/src', files: /(?<!\.d)\.ts$/, aim: 0.995 },
  { name: 'TypeScript and TSX of packages', folder: 'node_modules', files: /(?<!\.d)\.tsx?$/, aim: 0.9995 },
  {
    name: 'JavaScript of packages',
    folder: 'node_modules',
    files: /(?:lodash-es|ramda|redux|rxjs|d3-\w+|preact|graphql|zod)\/.*\.m?js$/,
    aim: 1,
  },
];

test.each(languages)(
  '$name: words are mapped to themselves',
  async ({ folder, files: wanted, aim, name }) => {
    let [files, exact] = [0, 0];
    const replaced: string[] = [];
    const missing: string[] = [];
    let seen = 0;
    for (const file of filesBelow(join(repository, folder), wanted)) {
      // Of thousands, some show the same.
      if (folder === 'node_modules' && seen++ % full(12, 1) !== 0) continue;
      const check = await checkFile(file);
      if (!check) continue;
      files++;
      exact += check.exact;
      replaced.push(...check.replaced.map((text) => `${relative(repository, file)} ${text}`));
      missing.push(...check.missing.map((text) => `${relative(repository, file)} ${text}`));
    }
    if (process.env.SHOW)
      console.log(
        [name, files, exact, replaced.length, missing.length, ...missing.slice(0, 30), ...replaced.slice(0, 60)].join('\n'),
      );
    expect(files).toBeGreaterThan(10);
    if (exact / (exact + missing.length) < aim) expect(missing).toEqual([]);
    expect(replaced.length / exact).toBeLessThan(0.02);
  },
  120_000,
);

test('mappings as numbers are what the library reads and writes', () => {
  const lines: SourceMapSegment[][] = [
    [[0], [4, 0, 0, 0], [9, 0, 0, 7, 1]],
    [],
    [
      [2, 1, 40_000, 3],
      [3, 0, 2, 70_000, 0],
    ],
  ];
  const numbers = readMappings(encode(lines));
  expect(writeMappings(numbers)).toBe(encode(lines));
  // A segment that leads nowhere, and one behind it on the same line that says nothing new.
  const own = new OwnOrigin('quay.ts', 'a\nb\nc', false);
  const { segments, sources, names } = through(readMappings(encode([[[0, 0, 1, 0], [3, 0, 1, 0], [5]]])), [], own);
  expect([writeMappings(segments), sources, names]).toEqual([encode([[[0, 0, 1, 0], [5]]]), ['quay.ts'], []]);
});

test('maps of parts are joined as if the text had been one, however far the map of a part goes', () => {
  let seed = 7;
  const random = (below: number) => {
    seed = (seed * 48_271) % 2_147_483_647;
    return seed % below;
  };
  const segment = (column: number): SourceMapSegment => {
    if (random(5) === 0) return [column];
    const place: [number, number, number, number] = [column, random(2), random(90_000), random(300)];
    return random(3) === 0 ? [...place, random(3)] : place;
  };
  for (let round = 0; round < 200; round++) {
    const parts = Array.from({ length: 1 + random(4) }, (_, part) => ({
      height: 1 + random(3),
      lines: Array.from({ length: random(5) }, () => Array.from({ length: random(4) }, (_, index) => segment(index * 3))),
      lists: {
        sources: [`gull${part}.ts`, `ebb${part}.ts`],
        sourcesContent: ['tide', null],
        names: ['a', `"${part}`, 'c'],
      },
    }));
    let line = 0;
    const sections = parts.map(({ height, lines, lists }) => {
      const section = { line, map: { ...lists, segments: readMappings(encode(lines)), ignored: [1] } };
      line += height;
      return section;
    });
    const { mappings, ...rest } = JSON.parse(joinedMap('board.js', sections)) as { mappings: string };
    const expected = parts.flatMap(({ height, lines }, part) =>
      Array.from({ length: part === parts.length - 1 ? 5 : height }, (_, at) =>
        (lines[at] ?? []).map((found) =>
          found.map((number, field) => number + (field === 1 ? part * 2 : field === 4 ? part * 3 : 0)),
        ),
      ),
    );
    expect(decode(`${mappings}${';'.repeat(line + 5 - mappings.split(';').length)}`).slice(0, expected.length)).toEqual(expected);
    expect(rest).toEqual({
      version: 3,
      file: 'board.js',
      names: parts.flatMap(({ lists }) => lists.names),
      sources: parts.flatMap(({ lists }) => lists.sources),
      sourcesContent: parts.flatMap(({ lists }) => lists.sourcesContent),
      ignoreList: parts.map((_, part) => part * 2 + 1),
    });
  }
});

test('words in front of the first mapping of a line, between others and behind the last one get theirs', () => {
  const text = 'if (a) b\nelse c in d\nelse';
  const given = encode([
    [[0, 0, 0, 0]],
    [
      [5, 0, 1, 5],
      [10, 0, 1, 10],
    ],
    [],
    [[0, 0, 3, 0]],
  ]);
  const completed = completeMappings({ mappings: given, shifts: [], text: `${text}\n;`, source: `${text}\n;` });
  const words = [
    [
      [0, 0, 1, 0],
      [5, 0, 1, 5],
      [7, 0, 1, 7],
      [10, 0, 1, 10],
    ],
    [[0, 0, 2, 0]],
  ];
  expect(decode(completed)).toEqual([[[0, 0, 0, 0]], ...words, [[0, 0, 3, 0]]]);
});
