import { analyze, type Reference, type ScopeManager, type Variable } from 'eslint-scope';
import type { Node, Program } from 'estree';
import { walk } from 'estree-walker';
import { blank, type Edit } from './edits.js';
import { foldConstants, mayHoldConstants } from './fold-constants.js';
import { mayWrite, writingTypes } from './own-writes.js';
import { parseModule } from './parse-module.js';
import { indexTree, type Spanned } from './tree.js';

export interface AnalysisInput {
  text: string;
  handle: string;
  constants: Readonly<Record<string, string>>;
  /** Local names that are imports. */
  imported: readonly string[];
  /** Local name -> the names under which it is exported. */
  exportedAs: ReadonlyMap<string, readonly string[]>;
  /** The constants of the text as they were folded already, where its words were enough for that. */
  folds?: readonly Edit[] | undefined;
  /** Make the checked form: every read of an import asks the runtime first. */
  isChecked: boolean;
}

/** What only a syntax tree tells of a module. */
export interface Analysis {
  /** The body holds an `await` outside any function. */
  isAsync: boolean;
  edits: Edit[];
  /** Assignments to imports, which always fail. */
  importWrites: { name: string; start: number; end: number }[];
}

/**
 * Parses the module and finds what its text alone does not show.
 *
 * @throws SyntaxError where it can't be read at all.
 */
export function analyseModule(input: AnalysisInput): Analysis {
  const { tree } = parseModule(input.text);
  const index = indexTree(tree, writingTypes);
  const { parents } = index;
  let known: ScopeManager | undefined;
  const scopes = () => {
    known ??= analyze(tree as never, { ecmaVersion: 2024, sourceType: 'module', fallback: 'iteration' } as never);
    return known;
  };
  const { text, exportedAs, imported, isChecked, folds } = input;
  const isWritten = isChecked || mayWrite(index, new Set([...exportedAs.keys(), ...imported]));
  const variables = isWritten ? moduleVariables(scopes, input) : new Map();
  const places = analysePlaces(tree, text, folds ? {} : input.constants, scopes);
  const edits = [
    ...(folds ?? []),
    ...places.edits,
    ...emptyExportEdits(tree, text),
    // In this order: what is read may end where what is assigned does, and is inside of it.
    ...(isChecked ? checkedReadEdits(variables, parents, input) : []),
    ...assignmentEdits(variables, parents, input),
  ];
  return { isAsync: places.isAsync, edits, importWrites: findImportWrites(variables, input) };
}

/** What has to change in a module's text wherever it's put, its imports and exports aside. `scopes` gives those of the tree. */
export function analysePlaces(
  tree: Program,
  text: string,
  constants: AnalysisInput['constants'],
  scopes: () => ScopeManager,
): Omit<Analysis, 'importWrites'> {
  // A tree is walked only for what the text holds at all.
  const edits = [
    ...(mayHoldConstants(text, constants) ? foldConstants(tree, constants, scopes) : []),
    ...(text.includes('arguments') ? topLevelArguments(tree) : []),
    ...htmlCommentEdits(tree, text),
  ];
  return { isAsync: text.includes('await') && hasTopLevelAwait(tree), edits };
}

type Variables = ReadonlyMap<string, Variable>;

/** The variables of the module's own scope; none where nothing imported or exported needs them. */
function moduleVariables(scopes: () => ScopeManager, { exportedAs, imported }: AnalysisInput): Variables {
  if (exportedAs.size === 0 && imported.length === 0) return new Map();
  return scopes().globalScope?.childScopes[0]?.set ?? new Map();
}

function findImportWrites(variables: Variables, { imported }: AnalysisInput): Analysis['importWrites'] {
  return imported.flatMap((name) => {
    const writes = variables.get(name)?.references.filter((reference) => reference.isWrite()) ?? [];
    return writes.map(({ identifier }) => {
      const { start, end } = identifier as unknown as Spanned;
      return { name, start, end };
    });
  });
}

/**
 * `name` becomes `my.ok(0, "name", name)`: the variable stays, so that its name still evaluates at a breakpoint. What begins a
 * statement must not begin with a bracket, which would go on a line before that has no semicolon; behind `new` it must.
 */
function checkedReadEdits(variables: Variables, parents: ReadonlyMap<Node, Node>, { imported, handle }: AnalysisInput): Edit[] {
  const edits: Edit[] = [];
  imported.forEach((name, index) => {
    for (const reference of variables.get(name)?.references ?? []) {
      if (!reference.isRead()) continue;
      const node = reference.identifier as unknown as Spanned;
      const parent = parents.get(node);
      if (parent?.type === 'ExportSpecifier') continue;
      const isShorthand = parent?.type === 'Property' && parent.shorthand;
      const isNewed = isInNewCallee(node, parents);
      edits.push({
        start: node.start,
        end: node.start,
        text: `${isShorthand ? `${name}: ` : ''}${isNewed ? '(' : ''}${handle}.ok(${index}, ${JSON.stringify(name)}, `,
      });
      edits.push({ start: node.end, end: node.end, text: isNewed ? '))' : ')' });
    }
  });
  return edits;
}

/** Whether an expression is what `new` makes something of, or what leads to that by members. */
function isInNewCallee(node: Node, parents: ReadonlyMap<Node, Node>): boolean {
  let at = node;
  for (let parent = parents.get(at); parent; at = parent, parent = parents.get(at)) {
    if (parent.type === 'NewExpression') return parent.callee === at;
    if (parent.type !== 'MemberExpression' || parent.object !== at) return false;
  }
  return false;
}

const functionTypes = new Set(['FunctionDeclaration', 'FunctionExpression', 'ArrowFunctionExpression', 'StaticBlock']);

function hasTopLevelAwait(tree: Program): boolean {
  let found = false;
  walk(tree, {
    enter(node, parent, key) {
      if (functionTypes.has(node.type)) return this.skip();
      // A field's value runs in a function of its own, its computed key does not.
      if (node.type !== 'PropertyDefinition' && parent?.type === 'PropertyDefinition' && key === 'value') return this.skip();
      if (node.type === 'AwaitExpression' || (node.type === 'ForOfStatement' && node.await)) found = true;
      if (node.type === 'VariableDeclaration' && (node.kind as string) === 'await using') found = true;
    },
  });
  return found;
}

/** `export {}` exports nothing, so that nothing else shows it; it can't stay in a function. */
function emptyExportEdits(tree: Program, text: string): Edit[] {
  return tree.body.flatMap((statement) => {
    if (
      statement.type !== 'ExportNamedDeclaration' ||
      statement.declaration ||
      statement.source ||
      statement.specifiers.length > 0
    )
      return [];
    const { start, end } = statement as Spanned;
    return [blank(text, start, end)];
  });
}

/** A module has no `arguments`, but the function that it's linked into does: another name, as long, that nobody defines. */
function topLevelArguments(tree: Program): Edit[] {
  const edits: Edit[] = [];
  walk(tree, {
    enter(node, parent, key) {
      if (node.type !== 'ArrowFunctionExpression' && functionTypes.has(node.type)) return this.skip();
      if (
        node.type !== 'Identifier' ||
        node.name !== 'arguments' ||
        key === 'property' ||
        key === 'key' ||
        parent?.type.endsWith('Specifier')
      )
        return;
      const { start, end } = node as Spanned;
      edits.push({ start, end, text: 'argument$' });
    },
  });
  return edits;
}

/** `a<!--b` compares in a module but starts a comment in a script: a space keeps them apart (ECMA-262, B.1.1). */
function htmlCommentEdits(tree: Program, text: string): Edit[] {
  const edits: Edit[] = [];
  if (!text.includes('<!--') && !/^[^\S\n]*-->/m.test(text)) return edits;
  walk(tree, {
    enter(node) {
      if (node.type === 'BinaryExpression') {
        const right = node.right as Spanned;
        if (text.startsWith('<!--', right.start - 1)) edits.push({ start: right.start, end: right.start, text: ' ' });
      }
      if (node.type === 'UpdateExpression' && !node.prefix) {
        const { end } = node as Spanned;
        if (text[end] === '>') edits.push({ start: end, end, text: ' ' });
      }
    },
  });
  return edits;
}

/** Wraps every assignment to an exported variable so that the importers follow at once. */
function assignmentEdits(variables: Variables, parents: ReadonlyMap<Node, Node>, input: AnalysisInput): Edit[] {
  const touched = new Map<Spanned, Set<string>>();
  for (const [local, exported] of input.exportedAs) {
    for (const reference of variables.get(local)?.references ?? []) {
      if (!reference.isWrite() || (reference.init && !input.isChecked)) continue;
      const target = assignmentAround(reference, parents);
      if (!target) continue;
      const names = touched.get(target) ?? new Set();
      for (const name of exported) names.add(name);
      touched.set(target, names);
    }
  }
  return [...touched].flatMap(([target, names], number) => touchEdits(target, [...names], number, input));
}

/** The expression or loop that performs a write. */
function assignmentAround(reference: Reference, parents: ReadonlyMap<Node, Node>): Spanned | undefined {
  for (let node: Node | undefined = reference.identifier as Node; node; node = parents.get(node)) {
    if (node.type === 'AssignmentExpression' || node.type === 'UpdateExpression') return node as Spanned;
    if (node.type === 'ForOfStatement' || node.type === 'ForInStatement') return node as Spanned;
    if (node.type === 'VariableDeclaration') {
      const parent = parents.get(node);
      if (parent?.type === 'ForOfStatement' || parent?.type === 'ForInStatement') return parent as Spanned;
      return node as Spanned;
    }
  }
  return undefined;
}

/** `x = 1` becomes `my.touch("x", x = 1)`, and so on for whatever assigns; `number` makes a name that is there once. */
export function touchEdits(target: Spanned, names: string[], number: number, { handle }: { handle: string }): Edit[] {
  const calls = names.map((name) => `${handle}.touch(${JSON.stringify(name)})`);
  const statements = calls.map((call) => `${call};`).join(' ');
  if (target.type === 'VariableDeclaration') {
    // One more variable: that is right with a semicolon behind it or without, in the head of a loop and as a branch.
    const { end } = target.declarations.at(-1) as Spanned;
    return [{ start: end, end, text: `, ${handle}_${number} = ${calls.length === 1 ? calls[0] : `[${calls.join(', ')}]`}` }];
  }
  if (target.type === 'ForOfStatement' || target.type === 'ForInStatement') {
    const body = target.body as Spanned;
    if (body.type === 'BlockStatement') return [{ start: body.start + 1, end: body.start + 1, text: ` ${statements}` }];
    return [
      { start: body.start, end: body.start, text: `{ ${statements} ` },
      { start: body.end, end: body.end, text: ' }' },
    ];
  }
  const before = names.map((name) => `${handle}.touch(${JSON.stringify(name)}, `).join('');
  return [
    { start: target.start, end: target.start, text: before },
    { start: target.end, end: target.end, text: ')'.repeat(names.length) },
  ];
}
