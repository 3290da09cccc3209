// Joins what the program always loads into one file: reading a hundred modules takes longer than what they do at a start.
// The files that are joined stay where they are and pass on the names of the joined one, for whatever else imports them.
import { existsSync, readFileSync, writeFileSync } from 'node:fs';
import { dirname, join, relative } from 'node:path';
import { analyze } from 'eslint-scope';
import { walk } from 'estree-walker';
import MagicString from 'magic-string';
import { parseSync } from 'oxc-parser';

/**
 * Joins what `entry` (a path in `folder`) statically imports, but not the entry itself, into the file `name` there; of that, what `isPart` says
 * of paths in the folder.
 */
export function joinProgram(folder, entry, otherFiles, { name: joinedName = 'joined.js', isPart = () => true } = {}) {
  const joined = join(folder, joinedName);
  const modules = new Map();
  const read = (file) => {
    const code = readFileSync(file, 'utf8');
    const { program, errors } = parseSync(file, code, { range: true });
    if (errors.length > 0) throw new Error(`${file}: ${errors[0].message}`);
    return { file, code, program };
  };
  const visit = (file) => {
    if (modules.has(file)) return;
    const module = { ...read(file), number: modules.size };
    modules.set(file, module);
    for (const target of targetsOf(module)) if (isPart(relative(folder, target))) visit(target);
    // Dependencies first, as they run.
    modules.delete(file);
    modules.set(file, module);
  };
  const main = read(join(folder, entry));
  for (const target of targetsOf(main)) if (isPart(relative(folder, target))) visit(target);
  for (const module of modules.values()) module.exports = exportsOf(module);
  const nameOf = (file, name) => {
    const module = modules.get(file);
    const found = module.exports.get(name);
    if (found === undefined) throw new Error(`${file} has no export ${name}`);
    return typeof found === 'string' ? `${found}$${module.number}` : nameOf(found.file, found.name);
  };
  const packages = new Map();
  const bodies = [...modules.values()].map((module) => bodyOf(module, { modules, joined, nameOf, packages }));
  const imports = [...packages].map(([source, names]) => importOf(source, names));
  const exported = [...modules].flatMap(([file, { exports }]) => [...exports.keys()].map((name) => nameOf(file, name)));
  const list = [...new Set(exported)].join(', ');
  writeFileSync(joined, `${imports.join('\n')}\n${bodies.join('\n')}\nexport { ${list} };\n`);
  for (const [file, { exports }] of modules) {
    const names = [...exports.keys()].map((name) => `${nameOf(file, name)} as ${name}`);
    writeFileSync(file, `export { ${names.join(', ')} } from '${specifierTo(joined, file)}';\n`);
  }
  // What is loaded later finds the joined file without a detour.
  for (const file of [main.file, ...otherFiles.filter((other) => !modules.has(other))])
    redirect(read(file), { modules, joined, nameOf });
}

/** The files that a module statically imports. */
function targetsOf({ file, program }) {
  return program.body.flatMap(({ source }) => (source?.value.startsWith('.') ? [join(dirname(file), source.value)] : []));
}

/** Names that a module exports, with its own name for each, or the module that it passes on. */
function exportsOf({ file, program }) {
  const exports = new Map();
  for (const statement of program.body) {
    if (statement.type === 'ExportAllDeclaration' || statement.type === 'ExportDefaultDeclaration')
      throw new Error(`${file}: write named exports`);
    if (statement.type !== 'ExportNamedDeclaration') continue;
    const { declaration, specifiers, source } = statement;
    for (const { local, exported } of specifiers)
      exports.set(exported.name, source ? { file: join(dirname(file), source.value), name: local.name } : local.name);
    for (const { id } of declaration?.declarations ?? (declaration ? [declaration] : [])) exports.set(id.name, id.name);
  }
  return exports;
}

/** A module's text with names that no other has, without imports and exports. */
function bodyOf({ file, code, program, number }, { modules, joined, nameOf, packages }) {
  const text = new MagicString(code);
  const renamed = new Map();
  for (const statement of program.body) {
    if (statement.type === 'ImportDeclaration') {
      for (const specifier of statement.specifiers)
        renamed.set(specifier.local.name, importedName(specifier, statement.source.value));
      text.remove(statement.start, statement.end);
    } else if (statement.type === 'ExportNamedDeclaration') {
      if (statement.declaration) text.remove(statement.start, statement.declaration.start);
      else text.remove(statement.start, statement.end);
    }
  }
  function importedName(specifier, source) {
    const name =
      specifier.type === 'ImportSpecifier'
        ? specifier.imported.name
        : specifier.type === 'ImportDefaultSpecifier'
          ? 'default'
          : '*';
    const target = source.startsWith('.') ? join(dirname(file), source) : undefined;
    if (modules.has(target)) return nameOf(target, name);
    const from = target === undefined ? source : specifierTo(target, joined);
    const names = packages.get(from) ?? new Map();
    packages.set(from, names);
    if (!names.has(name))
      names.set(
        name,
        `${name === '*' || name === 'default' ? specifier.local.name : name}$p${[...packages.keys()].indexOf(from)}`,
      );
    return names.get(name);
  }
  const shorthands = new Set();
  let usesUrl = false;
  walk(program, {
    enter(node) {
      if (node.type === 'Property' && node.shorthand) shorthands.add(node.key.start);
      if (node.type === 'MetaProperty') {
        usesUrl = true;
        // All we ask of it.
        if (code.slice(node.start, node.end + 4) !== 'import.meta.url')
          throw new Error(`${file}: only import.meta.url is known here`);
        text.update(node.start, node.end + 4, `here$${number}`);
      }
      if (node.type === 'ImportExpression' && node.source.type === 'Literal' && node.source.value.startsWith('.'))
        text.update(node.source.start, node.source.end, `'${specifierTo(join(dirname(file), node.source.value), joined)}'`);
    },
  });
  const scopes = analyze(program, { ecmaVersion: 2022, sourceType: 'module' });
  const done = new Set();
  const rename = (identifier, name) => {
    if (done.has(identifier.start)) return;
    done.add(identifier.start);
    const isShort = shorthands.has(identifier.start);
    text.update(identifier.start, identifier.end, isShort ? `${identifier.name}: ${name}` : name);
  };
  const module = scopes.scopes.find(({ type }) => type === 'module');
  for (const variable of module.variables) {
    const isImport = variable.defs.some(({ type }) => type === 'ImportBinding');
    const name = isImport ? renamed.get(variable.name) : `${variable.name}$${number}`;
    if (!isImport) for (const identifier of variable.identifiers) rename(identifier, name);
    for (const { identifier } of variable.references) if (!isInExport(identifier)) rename(identifier, name);
    // Inside of itself, a class has its name a second time.
    for (const scope of scopes.scopes)
      if (scope.type === 'class')
        for (const inner of scope.variables)
          if (variable.identifiers.includes(inner.identifiers[0]))
            for (const { identifier } of inner.references) rename(identifier, name);
  }
  function isInExport({ start }) {
    return program.body.some(
      (statement) =>
        statement.type === 'ExportNamedDeclaration' &&
        !statement.declaration &&
        start >= statement.start &&
        start < statement.end,
    );
  }
  const here = usesUrl ? `const here$${number} = new URL('${specifierTo(file, joined)}', import.meta.url).href;\n` : '';
  return `// ${relative(dirname(joined), file)}\n${here}${text.toString().trim()}`;
}

function importOf(source, names) {
  const all = [...names];
  const named = all.filter(([name]) => name !== 'default' && name !== '*').map(([name, local]) => `${name} as ${local}`);
  const whole = all.find(([name]) => name === '*');
  const fallback = all.find(([name]) => name === 'default');
  const parts = [...(fallback ? [fallback[1]] : []), ...(named.length > 0 ? [`{ ${named.join(', ')} }`] : [])];
  return [
    ...(parts.length > 0 ? [`import ${parts.join(', ')} from '${source}';`] : []),
    ...(whole ? [`import * as ${whole[1]} from '${source}';`] : []),
  ].join('\n');
}

/** Lets a file that isn't joined import from the joined one. */
function redirect({ file, code, program }, { modules, joined, nameOf }) {
  const text = new MagicString(code);
  for (const statement of program.body) {
    if (statement.type !== 'ImportDeclaration' && statement.type !== 'ExportNamedDeclaration') continue;
    const target = statement.source?.value.startsWith('.') ? join(dirname(file), statement.source.value) : undefined;
    if (!modules.has(target)) continue;
    const isImport = statement.type === 'ImportDeclaration';
    const names = statement.specifiers.map((specifier) =>
      isImport
        ? `${nameOf(target, specifier.imported.name)} as ${specifier.local.name}`
        : `${nameOf(target, specifier.local.name)} as ${specifier.exported.name}`,
    );
    const words = isImport ? 'import' : 'export';
    text.update(statement.start, statement.end, `${words} { ${names.join(', ')} } from '${specifierTo(joined, file)}';`);
  }
  if (existsSync(file)) writeFileSync(file, text.toString());
}

function specifierTo(target, from) {
  const path = relative(dirname(from), target);
  return path.startsWith('.') ? path : `./${path}`;
}
