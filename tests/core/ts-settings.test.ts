import { afterAll, beforeAll, expect, test } from '@jest/globals';
import { PackageFiles } from '../../src/core/resolve/package-json.js';
import { defaultScriptOptions } from '../../src/core/translate/script-options.js';
import { type Translated, translateScript } from '../../src/core/translate/translate-script.js';
import { DiskFiles } from '../../src/project/files/disk-files.js';
import { TsSettings } from '../../src/project/read/ts-settings.js';
import { Workspace } from '../support/workspace.js';

let workspace: Workspace;
let settings: TsSettings;
beforeAll(async () => {
  workspace = Workspace.with({
    'package.json': '{ "dependencies": { "preact": "*" } }',
    'tsconfig.json': '{ "files": [], "references": [{ "path": "./tsconfig.app.json" }, { "path": "./tools" }] }',
    'tsconfig.app.json':
      '{ "include": ["src"], "compilerOptions": { "composite": true, "jsx": "react", "jsxFactory": "h", "target": "es2020" } }',
    'tools/tsconfig.json':
      '{ "compilerOptions": { "experimentalDecorators": true, "jsx": "react-jsx", "jsxImportSource": "kit" } }',
    'plain/jsconfig.json': '{ "compilerOptions": { "verbatimModuleSyntax": true } }',
    'broken/tsconfig.json': '{ "extends": "./nowhere.json" }',
    'src/a.ts': '',
  });
  settings = new TsSettings(
    new PackageFiles(new DiskFiles()),
    (path) => path.startsWith(workspace.root),
    (path) => path,
  );
  await settings.load();
});
afterAll(() => workspace.dispose());

test('references lead to the configuration that includes a file', () => {
  expect(settings.optionsFor(workspace.path('src/a.tsx'))).toMatchObject({
    jsx: { runtime: 'classic', pragma: 'h' },
    definedFields: false,
  });
});

test('the nearest configuration counts, tsconfig.json or jsconfig.json', () => {
  expect(settings.optionsFor(workspace.path('tools/a.tsx'))).toMatchObject({
    jsx: { runtime: 'automatic', importSource: 'kit' },
    legacyDecorators: true,
  });
  expect(settings.optionsFor(workspace.path('plain/a.js'))).toMatchObject({ verbatimImports: true, definedFields: true });
});

test('a project that depends on Preact means Preact by its JSX', () => {
  expect(settings.optionsFor(workspace.path('plain/a.jsx')).jsx).toEqual({ runtime: 'automatic', importSource: 'preact' });
});

test('a broken configuration is a problem, not a crash', () => {
  settings.optionsFor(workspace.path('broken/a.ts'));
  expect([...settings.problems.values()][0]).toMatchObject({
    code: 'settings-unreadable',
    file: workspace.path('broken/tsconfig.json'),
  });
});

test('configurations that extend two that extend two each, and so on, come to an end', async () => {
  const layer = (at: number) => JSON.stringify({ extends: [`./a${at}.json`, `./b${at}.json`] });
  const many = Workspace.with({
    'tsconfig.json': layer(0),
    'package.json': '{}',
    ...Object.fromEntries(
      Array.from({ length: 40 }, (_, at) =>
        ['a', 'b'].map((name) => [`${name}${at}.json`, at < 39 ? layer(at + 1) : '{}']),
      ).flat(),
    ),
  });
  const read = new TsSettings(
    new PackageFiles(new DiskFiles()),
    () => true,
    (path) => path,
  );
  await read.load();
  read.optionsFor(many.path('a.ts'));
  expect([...read.problems.values()]).toMatchObject([
    { code: 'settings-unreadable', message: expect.stringContaining('extends') },
  ]);
  many.dispose();
});

test('older decorators are there beside declarations that end with their block', async () => {
  const source = `using crane = { [Symbol.dispose]() {} };\nclass Berth { @dry quay() { return crane; } }\nexport { Berth };\n`;
  const options = { ...defaultScriptOptions, legacyDecorators: true, definedFields: false };
  const made = (await translateScript(source, {
    id: 'a.ts',
    inPackage: false,
    mode: 'development',
    refresh: false,
    options,
  })) as Translated;
  expect(made.text).toMatch(/decorate\(\[dry\], Berth\.prototype, "quay"/);
  expect(made.map!.sources).toEqual(['a.ts']);
});
