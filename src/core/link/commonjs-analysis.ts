import type { Identifier, Node, Pattern, Program } from 'estree';
import { walk } from 'estree-walker';
import { parseSync } from 'oxc-parser';
import { declaredIn } from './declared-names.js';
import type { Edit } from './edits.js';
import { evaluate, foldConstants, typesInPages } from './fold-constants.js';
import type { Found, LinkInput, ModuleRequest } from './linked.js';
import { eachNode, type Spanned } from './tree.js';
import { importPlaces } from './url-places.js';

/** Finds constants and requests in a CommonJS module's syntax tree. */
export function analyseCommonJs(input: LinkInput): Found {
  const tree = parseSync('module.cjs', input.text, {
    lang: 'js',
    sourceType: 'commonjs',
    range: true,
    preserveParens: false,
  }).program as unknown as Program;
  const edits = foldConstants(tree, input.constants);
  return { requests: findRequests(tree, input, edits), edits };
}

/** Calls of `require` with a literal, and `import()`, in code that can run. */
function findRequests(tree: Program, input: LinkInput, edits: Edit[]): ModuleRequest[] {
  const requests = new Map<string, ModuleRequest>();
  let conditions = 0;
  const add = (kind: ModuleRequest['kind'], literal: Spanned, specifier: string, more: Partial<ModuleRequest> = {}) => {
    const { start, end } = literal;
    const key = `${kind}\0${specifier}`;
    const request = requests.get(key) ?? { kind, specifier, start, end, ...more };
    if (kind === 'require' && conditions === 0 && literal.type === 'Literal') request.isCertain = true;
    requests.set(key, request);
  };
  /** What an expression names. */
  const addNamed = (kind: 'dynamic' | 'require', source: Node) => {
    const { places, isOpen } = importPlaces(source);
    for (const { specifier, isPattern } of places) add(kind, source as Spanned, specifier, isPattern ? { isPattern } : {});
    return isOpen;
  };
  /** Paths that stand as strings, which an `import()` of a variable may name. */
  const mentioned: Spanned[] = [];
  let isOpen = false;
  const dead = new Set<Node>();
  let shadows = 0;
  const known = knownIn(tree, input.constants);
  walk(tree, {
    enter(node) {
      if (dead.has(node)) return this.skip();
      if (declaresRequire(node)) shadows++;
      if (conditional.has(node.type)) conditions++;
      markDeadBranches(node, known, dead);
      if (node.type === 'ImportExpression') {
        const { start } = node as Spanned;
        edits.push({ start, end: start + 6, text: `${input.handle}.get` });
        if (addNamed('dynamic', node.source)) isOpen = true;
      }
      if (node.type === 'Literal' && typeof node.value === 'string' && /^\.{1,2}\//.test(node.value))
        mentioned.push(node as Spanned);
      if (shadows > 0 || node.type !== 'CallExpression') return;
      const [argument] = node.arguments;
      if (node.callee.type !== 'Identifier' || node.callee.name !== 'require') return;
      if (argument && argument.type !== 'SpreadElement') addNamed('require', argument);
    },
    leave(node) {
      if (dead.has(node)) return;
      if (declaresRequire(node)) shadows--;
      if (conditional.has(node.type)) conditions--;
    },
  });
  for (const literal of isOpen ? mentioned : []) {
    const specifier = String((literal as { value?: unknown }).value);
    if (!requests.has(`require\0${specifier}`) && !requests.has(`dynamic\0${specifier}`))
      add('dynamic', literal, specifier, { isGuess: true });
  }
  return [...requests.values()];
}

/** What stands in these may never run. */
const conditional = new Set([
  'FunctionDeclaration',
  'FunctionExpression',
  'ArrowFunctionExpression',
  'IfStatement',
  'ConditionalExpression',
  'LogicalExpression',
  'TryStatement',
  'SwitchStatement',
  'ClassDeclaration',
  'ClassExpression',
]);

/** What tests may be decided by. */
interface KnownNames {
  constants: LinkInput['constants'];
  types: Readonly<Record<string, string>>;
}

/** What isn't declared anywhere in a file, so that its names mean what they mean everywhere. */
function knownIn(tree: Program, constants: LinkInput['constants']): KnownNames {
  const declared = new Set<string>();
  eachNode(tree, (node) => {
    const patterns = node.type === 'VariableDeclarator' ? [node.id] : 'params' in node ? (node.params as Pattern[]) : [];
    if (node.type === 'CatchClause' && node.param) patterns.push(node.param);
    for (const pattern of patterns) for (const name of declaredIn(pattern)) declared.add(name);
    if (/^(?:Function|Class)/.test(node.type) && 'id' in node && node.id) declared.add((node.id as Identifier).name);
    return true;
  });
  const kept = (record: Readonly<Record<string, string>>) =>
    Object.fromEntries(Object.entries(record).filter(([chain]) => !declared.has(chain.split('.')[0]!)));
  return { constants: kept(constants), types: kept(typesInPages) };
}

function markDeadBranches(node: Node, { constants, types }: KnownNames, dead: Set<Node>): void {
  if (node.type === 'IfStatement' || node.type === 'ConditionalExpression') {
    const test = evaluate(node.test, constants, undefined, types);
    if (!test) return;
    const branch = test.value ? node.alternate : node.consequent;
    if (branch) dead.add(branch);
  } else if (node.type === 'LogicalExpression') {
    const left = evaluate(node.left, constants, undefined, types);
    if (!left) return;
    const runsRight = node.operator === '&&' ? Boolean(left.value) : node.operator === '||' ? !left.value : left.value == null;
    if (!runsRight) dead.add(node.right);
  }
}

/** Files that were bundled before shipping hand a `require` of their own to functions. */
function declaresRequire(node: Node): boolean {
  if (node.type !== 'FunctionDeclaration' && node.type !== 'FunctionExpression' && node.type !== 'ArrowFunctionExpression')
    return false;
  return node.params.some((parameter: Pattern) => parameter.type === 'Identifier' && parameter.name === 'require');
}
