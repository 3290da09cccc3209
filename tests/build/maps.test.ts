import { readdirSync, readFileSync } from 'node:fs';
import { expect, test } from '@jest/globals';
import { decode } from '@jridgewell/sourcemap-codec';
import { originalPositionFor, TraceMap } from '@jridgewell/trace-mapping';
import { runProgram } from '../support/program.js';
import { isLong } from '../support/sizes.js';
import { Workspace } from '../support/workspace.js';

interface SourceMap {
  sources: string[];
  sourcesContent: string[];
  names: string[];
  mappings: string;
}

/** Names in a map that don't stand where the map says, and strings that lead somewhere else than they stand. */
function mistakesIn(text: string, map: SourceMap): string[] {
  const mistakes: string[] = [];
  const linesOf = map.sourcesContent.map((source) => source.split('\n'));
  for (const segment of decode(map.mappings).flat()) {
    if (segment.length !== 5) continue;
    const [, source, line, column, name] = segment;
    const rest = linesOf[source]![line]?.slice(column) ?? '';
    // The minifier names a bracket by what is in it, and what a translator adds stands nowhere.
    if (!rest.replace(/^\(+/, '').startsWith(map.names[name]!) && map.sourcesContent[source]!.includes(map.names[name]!))
      mistakes.push(`${map.names[name]} at ${map.sources[source]}:${line + 1}:${column}: ${rest.slice(0, 30)}`);
  }
  const traced = new TraceMap({ version: 3, ...map });
  const starts = text.split('\n');
  let strings = 0;
  starts.forEach((line, index) => {
    for (const { index: column, 1: word } of line.matchAll(/"([a-z]{4,}[\w -]{6,40})"/g)) {
      const place = originalPositionFor(traced, { line: index + 1, column });
      const own = map.sourcesContent.filter((source) => source.includes(word!));
      if (place.source === null || own.length !== 1) continue;
      strings++;
      const source = linesOf[map.sources.indexOf(place.source)]!;
      if (!source[place.line! - 1]!.slice(place.column!).includes(word!))
        mistakes.push(`"${word}" at ${place.source}:${place.line}`);
    }
  });
  expect(strings).toBeGreaterThan(5);
  return mistakes;
}

test.each(isLong ? [[[]], [['--no-minify']]] : [[[]]])(
  'names and strings of a build with %j are where its maps say',
  async (args) => {
    const workspace = Workspace.demo();
    const { code, stderr } = await runProgram(workspace.root, ['build', '--no-cache', ...args]);
    expect([code, stderr]).toEqual([0, '']);
    const assets = workspace.path('dist/assets');
    const mistakes: Record<string, string[]> = {};
    for (const name of readdirSync(assets).filter((file) => /^index.*\.(?:js|css)$/.test(file))) {
      const text = readFileSync(`${assets}/${name}`, 'utf8');
      const map = JSON.parse(readFileSync(`${assets}/${name}.map`, 'utf8')) as SourceMap;
      expect(text).toContain(`sourceMappingURL=${name}.map`);
      expect(map.sources.some((source) => source.startsWith('../src/'))).toBe(true);
      if (name.endsWith('.js')) mistakes[name] = mistakesIn(text, map);
    }
    expect(Object.values(mistakes).flat().slice(0, 20)).toEqual([]);
    workspace.dispose();
  },
  120_000,
);

test('maps lead on through those that packages ship', async () => {
  const source = 'export function tide(level: number): string {\n  return `tide ${level}`;\n}\n';
  const shipped = {
    version: 3,
    sources: ['tide.ts'],
    sourcesContent: [source],
    names: [],
    mappings: 'AAAA,OAAO,SAAS,IAAI,CAAC,KAAa;EAChC,OAAO,QAAQ,KAAK,EAAE;AACxB',
  };
  const workspace = Workspace.with({
    'package.json': '{}',
    'index.html': '<script type="module" src="main.js"></script>',
    'main.js': `import { tide } from 'tides'; document.title = tide(4);`,
    'node_modules/tides/package.json': '{ "name": "tides", "type": "module", "main": "tide.js" }',
    'node_modules/tides/tide.js':
      'export function tide(level) {\n  return `tide ${level}`;\n}\n//# sourceMappingURL=tide.js.map\n',
    'node_modules/tides/tide.js.map': JSON.stringify(shipped),
  });
  for (const more of [[], ['--no-minify']]) {
    await runProgram(workspace.root, ['build', '--no-cache', ...more]);
    const assets = workspace.path('dist/assets');
    const name = readdirSync(assets).find((file) => /^index.*\.js\.map$/.test(file))!;
    const map = JSON.parse(readFileSync(`${assets}/${name}`, 'utf8')) as SourceMap;
    expect(map.sources).toContain('../node_modules/tides/tide.ts');
    expect(map.sourcesContent[map.sources.indexOf('../node_modules/tides/tide.ts')]).toBe(source);
  }
  workspace.dispose();
}, 60_000);

test('where brackets of keys are put back that the minifier leaves out, maps move with them', async () => {
  const source = `class Pier { static [-1] = 'first'; static [-22] = 'second'; [-1e-7]() { return berth('third'); } }
globalThis.pier = Pier; const berth = (name) => name + globalThis.harbour;\n`;
  const page = '<script type="module" src="main.js"></script>';
  const workspace = Workspace.with({ 'package.json': '{}', 'index.html': page, 'main.js': source });
  expect(await runProgram(workspace.root, ['build', '--no-cache'])).toMatchObject({ code: 0, stderr: '' });
  const assets = workspace.path('dist/assets');
  const name = readdirSync(assets).find((file) => /^index.*\.js$/.test(file))!;
  const text = readFileSync(`${assets}/${name}`, 'utf8');
  const lines = decode((JSON.parse(readFileSync(`${assets}/${name}.map`, 'utf8')) as SourceMap).mappings);
  expect(text).toContain('static[-22]=');
  const placeIn = (of: string, word: string) => {
    const before = of.slice(0, of.indexOf(word)).split('\n');
    return { line: before.length, column: before.at(-1)!.length };
  };
  for (const word of ['first', 'second', 'third', 'harbour']) {
    const isMember = word === 'harbour';
    const { line, column } = placeIn(text, isMember ? word : `\`${word}`);
    const [, , sourceLine, sourceColumn] = lines[line - 1]!.find(([at]) => at === column) ?? [];
    expect({ word, line: sourceLine! + 1, column: sourceColumn }).toEqual({
      word,
      ...placeIn(source, isMember ? word : `'${word}`),
    });
  }
  workspace.dispose();
});
