// Puts parts of packages beside our own code, where the whole package would give a user much that is never used:
// Sass (an install script for its command line), Zod (sources, older versions, languages), small packages that need no other.
import { cpSync, mkdirSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { dirname, join, relative } from 'node:path';
import { init, parse } from 'es-module-lexer';
import { minifySync } from 'oxc-minify';
import { transformSync } from 'oxc-transform';
import { joinModules } from './join-modules.mjs';

/** Packages that need no other, by the module of theirs that is imported. What it imports itself comes along. */
const alone = {
  '@eslint-community/regexpp': 'index.mjs',
  'd3-hierarchy': 'dist/d3-hierarchy.min.mjs',
  'env-paths': 'index.js',
  'es-module-lexer': 'dist/lexer.js',
  'estree-walker': 'src/index.js',
  'fastest-levenshtein': 'esm/mod.js',
  'lean-qr': 'index.mjs',
  meriyah: 'dist/meriyah.min.mjs',
  srcset: 'index.js',
};

/**
 * Fills `dist/vendor`, and lets what is built import it from there. `versions.json` in it says what it holds, for audits.
 * @param {string} root the folder of the repository
 */
export async function vendor(root) {
  await init();
  const to = join(root, 'dist/vendor');
  const versions = {};
  const put = (name, files) => {
    const folder = join(to, name);
    const from = join(root, 'node_modules', name);
    mkdirSync(folder, { recursive: true });
    for (const [path, text] of files(from)) {
      mkdirSync(dirname(join(folder, path)), { recursive: true });
      writeFileSync(join(folder, path), text);
    }
    for (const file of readdirSync(from)) if (/^licen[cs]e/i.test(file)) cpSync(join(from, file), join(folder, file));
    versions[name] = versionOf(name);
  };
  const versionOf = (name) => JSON.parse(readFileSync(join(root, 'node_modules', name, 'package.json'), 'utf8')).version;
  // Parts of the scripts in `dist/browser`.
  for (const name of ['@prefresh/core', 'react-refresh']) versions[name] = versionOf(name);
  put('sass', sassFiles);
  put('immutable', (from) => [['immutable.cjs', readFileSync(join(from, 'dist/immutable.min.js'), 'utf8')]]);
  put('zod', zodFiles);
  const entries = { zod: join(to, 'zod/v4/classic/external.js') };
  for (const [name, entry] of Object.entries(alone)) {
    put(name, (from) => [['package.json', '{ "type": "module" }\n'], ...withImports(join(from, entry), from)]);
    entries[name] = join(to, name, entry);
  }
  writeFileSync(join(to, 'versions.json'), `${JSON.stringify(versions, null, 2)}\n`);
  for (const path of readdirSync(join(root, 'dist'), { recursive: true }))
    if (/\.(?:d\.ts|js)$/.test(path) && !/^(?:vendor|browser)[\\/]/.test(path)) redirect(join(root, 'dist', path), entries);
}

/**
 * Takes away declarations of types that nobody who imports Vine Spark can reach.
 * @param {string} folder `dist`
 * @param {string[]} entries paths in it
 */
export function keepTypes(folder, entries) {
  const reached = new Set();
  const visit = (file) => {
    if (reached.has(file)) return;
    reached.add(file);
    for (const [, path] of readFileSync(file, 'utf8').matchAll(/(?:from|import|import\()\s*['"](\.[^'"]+)\.js['"]/g))
      visit(join(dirname(file), `${path}.d.ts`));
  };
  for (const entry of entries) visit(join(folder, entry));
  for (const path of readdirSync(folder, { recursive: true }))
    if (path.endsWith('.d.ts') && !reached.has(join(folder, path))) rmSync(join(folder, path));
}

/**
 * Takes away files that only pass on names of the joined program and that nothing in `folder` asks for.
 * @param {string} folder `dist`
 * @param {string[]} kept paths in it that others import
 */
export function dropPassers(folder, kept) {
  const scripts = readdirSync(folder, { recursive: true }).filter((path) => /^(?!vendor|browser).*\.js$/.test(path));
  const texts = new Map(scripts.map((path) => [path, readFileSync(join(folder, path), 'utf8')]));
  const passers = scripts.filter((path) => /^export \{[^}]*\} from '[./]*joined(?:-\w+)?\.js';\s*$/.test(texts.get(path)));
  const asked = new Set(kept);
  for (const [path, text] of texts)
    if (!passers.includes(path))
      for (const [, target] of text.matchAll(/['"](\.{1,2}\/[^'"]+\.js)['"]/g)) asked.add(join(dirname(path), target));
  for (const path of passers) if (!asked.has(path)) rmSync(join(folder, path));
}

/** Lets a module import packages from where their parts are now. */
function redirect(file, entries) {
  const before = readFileSync(file, 'utf8');
  let text = before;
  for (const [name, entry] of Object.entries(entries)) {
    const path = relative(dirname(file), entry).replaceAll('\\', '/');
    const specifier = path.startsWith('.') ? path : `./${path}`;
    // The packages' own form of one name for everything they export.
    if (name === 'zod') text = text.replaceAll(/import (type )?\{ z \} from 'zod'/g, `import $1* as z from '${specifier}'`);
    text = text.replaceAll(new RegExp(`(from|import\\()(\\s*)(['"])${name}\\3`, 'g'), `$1$2'${specifier}'`);
  }
  if (text !== before) writeFileSync(file, text);
}

/** A module and what it imports of its own package, by paths in it. */
function withImports(file, folder, found = new Map()) {
  const text = readFileSync(file, 'utf8');
  found.set(relative(folder, file), text);
  for (const { specifier } of parse(text)[0]) {
    if (!specifier?.startsWith('.')) {
      if (!specifier?.startsWith('node:')) throw new Error(`${file} imports ${specifier}`);
    } else if (!found.has(relative(folder, join(dirname(file), specifier))))
      withImports(join(dirname(file), specifier), folder, found);
  }
  return found;
}

function sassFiles(from) {
  const read = (file) => readFileSync(join(from, file), 'utf8');
  const main = read('sass.node.js')
    .replace('./sass.dart.js', './sass.dart.cjs')
    .replace('"immutable"', '"../immutable/immutable.cjs"');
  if (!main.includes('./sass.dart.cjs') || !main.includes('../immutable/immutable.cjs'))
    throw new Error('Sass is put together in another way than before.');
  return [
    ['sass.cjs', main],
    ['sass.dart.cjs', dense('sass.dart.cjs', read('sass.dart.js'), { toplevel: false, keepNames: true })],
  ];
}

/** A module without white space and comments: half of the bytes to read at a start. Nothing is computed or put together. */
function dense(name, text, mangle = false) {
  const { code, errors } = minifySync(name, text, { compress: false, mangle, codegen: { removeWhitespace: true } });
  if (errors.length > 0) throw new Error(`${name}: ${errors[0].message}`);
  return code;
}

/** What says "required" in other languages than English is left out, and so are older versions, sources and CommonJS. */
function zodFiles(from) {
  const kept = readdirSync(join(from, 'v4'), { recursive: true }).filter(
    (path) => /^(?:classic|core|locales)[\\/].*\.(?:js|d\.ts)$/.test(path) && !/^locales[\\/](?!en\.|index\.)/.test(path),
  );
  return [
    ['package.json', '{ "type": "module" }\n'],
    ...kept.map((path) => {
      const text = readFileSync(join(from, 'v4', path), 'utf8');
      const isLanguages = /^locales[\\/]index\./.test(path);
      const kept = isLanguages ? text.replaceAll(/^.*from "\.\/(?!en\.).*\n/gm, '') : text;
      return [`v4/${path}`, path.endsWith('.js') ? dense(path, kept) : kept];
    }),
  ];
}

/** Preact's refresh runtime as one module, which imports what it needs of Preact from the project. */
export async function preactRefresh(root) {
  const folder = join(root, 'node_modules/@prefresh/core');
  const textOf = (file) => readFileSync(file, 'utf8');
  const targetOf = (file, specifier) => {
    if (specifier.startsWith('.')) return `${join(dirname(file), specifier)}.js`;
    if (specifier !== 'preact') throw new Error(`${file} imports ${specifier}`);
  };
  const parts = await joinModules(join(folder, 'src/index.js'), { textOf, targetOf });
  const licence = textOf(join(folder, 'LICENSE')).trim();
  const imports = "import { Component, options } from 'preact';";
  const whole = `/*!\n${licence}\n*/\n${imports}\n${parts.map(({ text }) => text).join('\n')}`;
  // Names that two of its modules declare are an error here.
  const { code, errors } = transformSync('refresh.js', whole, { target: 'es2022' });
  if (errors.length > 0) throw new Error(`Preact's refresh runtime: ${errors[0].message}\n${errors[0].codeframe ?? ''}`);
  return code;
}
