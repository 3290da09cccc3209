import { parse } from 'acorn';
import type { ExportNamedDeclaration, ImportDeclaration, Node, Program } from 'estree';
import { walk } from 'estree-walker';
import { applyEdits, blank, type Edit } from '../../src/core/link/edits.js';
import type { LinkInput } from '../../src/core/link/linked.js';
import { analyseModule } from '../../src/core/link/module-analysis.js';
import type { Spanned } from '../../src/core/link/tree.js';

type Name = [exported: string, request: number, imported: string | null];

/** What goes into a linked module's first line. */
interface Parts {
  edits: Edit[];
  requests: { kind: string; specifier: string }[];
  bindings: { request: number; imported: string | null; local: string }[];
  locals: Map<string, string>;
  indirect: Name[];
  stars: number[];
  early: string[];
}

/**
 * Links a module the plain way: everything is read from a syntax tree of another parser, and nothing is spared. Slow, and
 * only there to be compared with. `undefined` for what it doesn't cover: `import()` of anything but a string.
 */
export function referenceLink(input: LinkInput): { code: string; requests: Parts['requests'] } | undefined {
  const { text, handle } = input;
  const tree = parse(text, { ecmaVersion: 'latest', sourceType: 'module' }) as unknown as Program;
  const parts: Parts = { edits: [], requests: [], bindings: [], locals: new Map(), indirect: [], stars: [], early: [] };
  if (!takeExpressions(tree, input, parts)) return undefined;
  // As the linker tells it, by the text: one function too many does no harm.
  const functions = new Set([...text.matchAll(/function\s*\*?\s*([\p{ID_Continue}$]+)/gu)].map(([, name]) => name!));
  for (const statement of tree.body as Spanned[]) if (statement.type === 'ImportDeclaration') takeImport(statement, text, parts);
  for (const statement of tree.body as Spanned[]) takeExport(statement, input, parts);
  for (const [exported, local] of parts.locals)
    if (functions.has(local) && !parts.early.includes(exported)) parts.early.push(exported);
  const exportedAs = new Map<string, string[]>();
  for (const [exported, local] of parts.locals) exportedAs.set(local, [...(exportedAs.get(local) ?? []), exported]);
  const imported = parts.bindings.map(({ local }) => local);
  const analysis = analyseModule({ ...input, imported, exportedAs, isChecked: input.checked === true });
  const inside = parts.edits.filter((edit) => edit.end > edit.start && edit.text.startsWith(';'));
  const rest = [...parts.edits, ...analysis.edits].filter(
    (edit) =>
      !inside.some((whole) => whole !== edit && edit.start >= whole.start && edit.end <= whole.end && edit.end > edit.start),
  );
  const body = applyEdits(text, rest).text;
  const end = analysis.isAsync ? `${handle}.done();\n` : '';
  return { code: `${firstLine(parts, input, analysis.isAsync)}\n${body}\n${end}}`, requests: parts.requests };
}

function requestOf(parts: Parts, kind: string, specifier: string): number {
  const known = parts.requests.findIndex((request) => request.kind === kind && request.specifier === specifier);
  return known !== -1 ? known : parts.requests.push({ kind, specifier }) - 1;
}

/** Requests in the order of the text, and the edits of everything that is no statement. */
function takeExpressions(tree: Program, { text, handle }: LinkInput, parts: Parts): boolean {
  let isCovered = true;
  const places: { at: number; take(): void }[] = [];
  walk(tree, {
    enter(node, parent) {
      const { start, end } = node as Spanned;
      const source = 'source' in node ? (node.source as (Node & { value?: unknown }) | null) : undefined;
      if (node.type === 'ImportExpression') {
        if (typeof source?.value !== 'string') isCovered = false;
        parts.edits.push({ start, end: start + 6, text: `${handle}.get` });
        places.push({ at: start, take: () => requestOf(parts, 'dynamic', String(source?.value)) });
      } else if (source && typeof source.value === 'string') {
        places.push({ at: start, take: () => requestOf(parts, 'import', source.value as string) });
      } else if (node.type === 'MetaProperty' && node.meta.name === 'import') {
        parts.edits.push({ start, end, text: `${handle}.meta`.padEnd(end - start) });
        // What is named by URL has a test of its own.
        if (parent?.type === 'MemberExpression' && /new\s+URL\s*\([^()]*$/.test(text.slice(0, start))) isCovered = false;
      }
    },
  });
  for (const { take } of places.sort((a, b) => a.at - b.at)) take();
  return isCovered;
}

/** The end of a statement that names another module, without its semicolon. */
function endOf({ source, attributes }: { source?: Node | null; attributes?: Node[] }, text: string): number {
  const last = attributes?.at(-1) as Spanned | undefined;
  return last ? text.indexOf('}', last.end) + 1 : (source as Spanned).end;
}

const nameOf = (node: Node): string => ('name' in node ? String(node.name) : String((node as { value?: unknown }).value));

function takeImport(statement: Spanned<ImportDeclaration>, text: string, { edits, bindings, ...parts }: Parts): void {
  edits.push(blank(text, statement.start, endOf(statement as never, text)));
  const request = requestOf({ edits, bindings, ...parts }, 'import', String(statement.source.value));
  for (const specifier of statement.specifiers) {
    const imported =
      specifier.type === 'ImportNamespaceSpecifier'
        ? null
        : specifier.type === 'ImportDefaultSpecifier'
          ? 'default'
          : nameOf(specifier.imported);
    bindings.push({ request, imported, local: specifier.local.name });
  }
}

function takeExport(statement: Spanned, { text, handle }: LinkInput, parts: Parts): void {
  const { start } = statement;
  if (statement.type === 'ExportAllDeclaration') {
    const request = requestOf(parts, 'import', String(statement.source.value));
    if (statement.exported) parts.indirect.push([nameOf(statement.exported), request, null]);
    else parts.stars.push(request);
    parts.edits.push(blank(text, start, endOf(statement as never, text)));
  } else if (statement.type === 'ExportNamedDeclaration') {
    if (statement.declaration) {
      parts.edits.push(blank(text, start, (statement.declaration as Spanned).start));
      for (const name of declaredNames(statement.declaration)) parts.locals.set(name, name);
    } else takeList(statement, text, parts);
  } else if (statement.type === 'ExportDefaultDeclaration') {
    const { declaration } = statement;
    const inner = declaration as Spanned;
    const isDeclared = declaration.type === 'FunctionDeclaration' || declaration.type === 'ClassDeclaration';
    const id = isDeclared ? declaration.id : undefined;
    parts.locals.set('default', id?.name ?? `${handle}_d`);
    const subject = start + /^export\s+default(?:\s|\/\*[\s\S]*?\*\/|\/\/.*\n)*/.exec(text.slice(start))![0].length;
    if (!isDeclared) {
      const ends = text.slice(start, subject).replace(/[^\n]/g, '');
      parts.edits.push({ start, end: subject, text: `const ${handle}_d = ${ends}`.padEnd(subject - start) });
      return;
    }
    parts.edits.push(blank(text, start, inner.start));
    if (id) return;
    const keywords = /^(?:async\s+)?(?:function\s*\*?|class)/.exec(text.slice(inner.start))![0].trimEnd().length;
    parts.edits.push({ start: inner.start + keywords, end: inner.start + keywords, text: ` ${handle}_d` });
    if (declaration.type === 'FunctionDeclaration') parts.early.push('default');
  }
}

function takeList(statement: Spanned<ExportNamedDeclaration>, text: string, parts: Parts): void {
  const { start, source, specifiers } = statement;
  if (specifiers.length === 0 && !source) return;
  const list = text.indexOf('}', (specifiers.at(-1) as Spanned | undefined)?.end ?? start) + 1;
  parts.edits.push(blank(text, start, source ? endOf(statement as never, text) : list));
  for (const { local, exported } of specifiers) {
    if (source) parts.indirect.push([nameOf(exported), requestOf(parts, 'import', String(source.value)), nameOf(local)]);
    else {
      const binding = parts.bindings.find((candidate) => candidate.local === nameOf(local));
      if (binding) parts.indirect.push([nameOf(exported), binding.request, binding.imported]);
      else parts.locals.set(nameOf(exported), nameOf(local));
    }
  }
}

function declaredNames(declaration: NonNullable<ExportNamedDeclaration['declaration']>): string[] {
  if (declaration.type !== 'VariableDeclaration') return [declaration.id.name];
  const names: string[] = [];
  for (const { id } of declaration.declarations) {
    walk(id as Node, {
      enter(node, parent, key) {
        if (node.type === 'AssignmentPattern') {
          walkPattern(node.left, names);
          return this.skip();
        }
        if (node.type === 'Identifier' && !(parent?.type === 'Property' && key === 'key')) names.push(node.name);
      },
    });
  }
  return names;
}

function walkPattern(pattern: Node, names: string[]): void {
  if (pattern.type === 'Identifier') names.push(pattern.name);
}

function firstLine(parts: Parts, { handle, text }: LinkInput, isAsync: boolean): string {
  let next = 0;
  const place = parts.requests.map(({ kind }) => (kind === 'import' ? next++ : -1));
  let line = `${isAsync ? 'async ' : ''}function* (${handle}) { "use strict";`;
  if (parts.bindings.length > 0) {
    const bound = parts.bindings.map(({ request, imported, local }) => {
      const value = local === 'v' ? 'w' : 'v';
      const whole = imported === null && isUsedWhole(text, local) ? ', true' : '';
      return `[${place[request]}, ${JSON.stringify(imported)}, (${value}) => { ${local} = ${value}; }${whole}]`;
    });
    line += ` let ${parts.bindings.map(({ local }) => local).join(', ')}; ${handle}.bind([${bound.join(', ')}]);`;
  }
  if (parts.locals.size + parts.indirect.length + parts.stars.length === 0) return `${line} yield;`;
  const key = (name: string) =>
    name === '__proto__' ? '["__proto__"]' : /^[A-Za-z_$][\w$]*$/.test(name) ? name : JSON.stringify(name);
  const getters = [...parts.locals].map(([exported, local]) => `${key(exported)}: () => ${local}`).join(', ');
  const early = [...parts.locals.keys()].filter((name) => parts.early.includes(name));
  const inOrder = [...parts.early.filter((name) => name === 'default' && !early.includes(name)), ...early];
  const rest: unknown[][] = [
    inOrder,
    parts.indirect.map(([name, request, from]) => [name, place[request], from]),
    parts.stars.map((request) => place[request]),
  ];
  while (rest.at(-1)?.length === 0) rest.pop();
  return `${line} ${handle}.exports({${getters ? ` ${getters} ` : ''}}${rest.map((part) => `, ${JSON.stringify(part)}`).join('')}); yield;`;
}

/** As the linker tells it, by the text: see `escapes` there. */
function isUsedWhole(text: string, local: string): boolean {
  const name = local.replaceAll('$', '\\$');
  const uses = (rest: string) => text.match(new RegExp(`(?<![\\w$]|(?<!\\.\\.)\\.)${name}${rest}`, 'g'))?.length ?? 0;
  return uses('(?![\\w$])') - 1 > uses('\\s*\\??\\.\\s*[A-Za-z_$]');
}
