// Builds dist/: the Node.js part with tsc, the browser part as one script, and the demo's files are used where they are.
import { spawnSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { chmodSync, mkdirSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import { dirname, join, relative } from 'node:path';
import { fileURLToPath } from 'node:url';
import swc from '@swc/core';
import { parseSync } from 'oxc-parser';
import { transformSync } from 'oxc-transform';
import { z } from 'zod';
import { joinModules } from './join-modules.mjs';
import { joinProgram } from './join-program.mjs';
import { dropPassers, keepTypes, preactRefresh, vendor } from './vendor.mjs';

const root = join(dirname(fileURLToPath(import.meta.url)), '..');
const require = createRequire(join(root, 'package.json'));

function compile(project) {
  const tsc = join(dirname(require.resolve('typescript/package.json')), 'bin/tsc');
  const { status } = spawnSync(process.execPath, [tsc, '-p', join(root, project)], { stdio: 'inherit' });
  if (status !== 0) process.exit(status ?? 1);
}

/** The browser's modules joined in one scope; a name declared twice is an error below. */
async function joinBrowserModules(entry) {
  const textOf = (file) => {
    const { code, errors } = transformSync(file, readFileSync(file, 'utf8'), { target: 'es2022' });
    if (errors.length > 0) throw new Error(`${file}: ${errors[0].message}`);
    return code;
  };
  const targetOf = (file, specifier) => join(dirname(file), specifier.replace(/\.js$/, '.ts'));
  const declared = new Map();
  const parts = [];
  for (const { file, text } of await joinModules(join(root, entry), { textOf, targetOf })) {
    // Functions of one name would take each other's place without a word.
    for (const [, name] of text.matchAll(/^(?:async )?function\*? ([\w$]+)/gm)) {
      if (declared.has(name)) throw new Error(`${name} is declared in ${declared.get(name)} and in ${file}`);
      declared.set(name, file);
    }
    parts.push(`// ${relative(root, file)}\n${text}`);
  }
  return parts.join('\n');
}

function refreshPackage() {
  const file = join(dirname(require.resolve('react-refresh/package.json')), 'cjs/react-refresh-runtime.development.js');
  const text = readFileSync(file, 'utf8').replaceAll('process.env.NODE_ENV', '"development"');
  return `const refreshPackage = (() => { const exports = {};\n${text}\nreturn exports; })();`;
}

function scriptsIn(folder) {
  const names = readdirSync(folder, { recursive: true }).filter((name) => name.endsWith('.js') && !name.startsWith('browser/'));
  return names.map((name) => join(folder, name));
}

/** A script without its doc comments, which stand in the sources: they would be read at every start. */
function withoutDocs(name, text) {
  let out = '';
  let at = 0;
  for (const { type, value, start, end } of parseSync(name, text).comments) {
    const lineStart = text.lastIndexOf('\n', start) + 1;
    const isAlone = text.slice(lineStart, start).trim() === '' && text[end] === '\n';
    if (type !== 'Block' || !value.startsWith('*') || !isAlone || lineStart < at) continue;
    out += text.slice(at, lineStart);
    at = end + 1;
  }
  return out + text.slice(at);
}

rmSync(join(root, 'dist'), { recursive: true, force: true });
compile('tsconfig.json');
compile('src/browser/tsconfig.json');
joinProgram(join(root, 'dist'), 'cli/main.js', scriptsIn(join(root, 'dist')));
// Builds load the rest, and what else is loaded later nothing of it.
joinProgram(join(root, 'dist'), 'build/build.js', scriptsIn(join(root, 'dist')), {
  name: 'joined-build.js',
  isPart: (path) => /^(?:build|core\/bundle)\//.test(path),
});
for (const file of scriptsIn(join(root, 'dist'))) writeFileSync(file, withoutDocs(file, readFileSync(file, 'utf8')));
await vendor(root);
keepTypes(join(root, 'dist'), ['index.d.ts', 'inside/front-end.d.ts']);
const client = `(() => {\n${refreshPackage()}\n(() => { "use strict";\n${await joinBrowserModules('src/browser/main.ts')}\n})();\n})();\n`;
const check = transformSync('client.js', client, { sourceType: 'script' });
if (check.errors.length > 0) throw new Error(`client.js: ${check.errors[0].message}\n${check.errors[0].codeframe ?? ''}`);
const built = `(() => { "use strict";\n${await joinBrowserModules('src/browser/built.ts')}\n})();\n`;
const worker = `(() => { "use strict";\n${await joinBrowserModules('src/browser/worker.ts')}\n})();\n`;
mkdirSync(join(root, 'dist/browser'), { recursive: true });
writeFileSync(join(root, 'dist/browser/client.js'), client);
writeFileSync(join(root, 'dist/browser/worker.js'), worker);
writeFileSync(join(root, 'dist/browser/built.js'), built);
writeFileSync(join(root, 'dist/browser/preact-refresh.js'), await preactRefresh(root));
// For builds whose targets don't know all of ECMAScript 2022, or no modules at all.
for (const target of ['es2015', 'es5']) {
  const options = { jsc: { target, parser: { syntax: 'ecmascript' }, externalHelpers: false }, isModule: false, swcrc: false };
  writeFileSync(join(root, `dist/browser/built.${target}.js`), swc.transformSync(built, options).code);
}
// As builds make everything smaller: that takes a second, which none of them needs to spend.
const { smallerScript, smallerOldScript } = await import('../dist/build/minify.js');
for (const [name, edition] of [
  ['built', 2022],
  ['built.es2015', 2015],
  ['built.es5', 5],
]) {
  const text = readFileSync(join(root, `dist/browser/${name}.js`), 'utf8');
  const { text: small } =
    edition === 5
      ? await smallerOldScript(swc, { text }, { keepsNames: false })
      : await smallerScript(text, undefined, { edition, keepsNames: false });
  writeFileSync(join(root, `dist/browser/${name}.min.js`), small);
}
// The form of the list of a build's files, for whoever reads it.
const { manifestSchema } = await import('../dist/build/manifest.js');
writeFileSync(join(root, 'dist/manifest.schema.json'), `${JSON.stringify(z.toJSONSchema(manifestSchema), null, 2)}\n`);
// The settings, for editors.
const { settingsJsonSchema } = await import('../dist/settings/json-schema.js');
writeFileSync(join(root, 'dist/settings.schema.json'), `${JSON.stringify(settingsJsonSchema(), null, 2)}\n`);
const { eventSchema } = await import('../dist/cli/report/event-schema.js');
writeFileSync(join(root, 'dist/events.schema.json'), `${JSON.stringify(z.toJSONSchema(eventSchema), null, 2)}\n`);
// What bench, scripts and tests import by their names.
const named = [
  'build/manifest',
  'build/mapped',
  'build/minify',
  'cli/report/event-schema',
  'core/live/messages',
  'settings/json-schema',
  'settings/setting-docs',
];
dropPassers(
  join(root, 'dist'),
  named.map((path) => `${path}.js`),
);
// What earlier builds of ours kept is not for this one, see `ownFingerprint`.
const everything = createHash('sha1');
for (const name of readdirSync(join(root, 'dist'), { recursive: true }).sort())
  if (/\.(?:c?js|json)$/.test(name)) everything.update(name).update(readFileSync(join(root, 'dist', name)));
writeFileSync(join(root, 'dist/fingerprint.txt'), everything.digest('hex').slice(0, 16));
chmodSync(join(root, 'dist/cli/main.js'), 0o755);
chmodSync(join(root, 'dist/cli/start.js'), 0o755);
