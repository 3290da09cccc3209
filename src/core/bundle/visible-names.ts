import type { Scope, ScopeManager, Variable } from 'eslint-scope';
import type { Node } from 'estree';
import { parse } from 'oxc-parser';
import type { KeptNames } from './member.js';
import { isAnonymous } from './syntax.js';

/**
 * The names in a script that a program may see: those of functions that are used for more than to be called, and that they are not the
 * module's own top-level ones where `scope` is given. Classes keep theirs anyway.
 */
export function visibleNames(
  nodes: readonly Node[],
  scopes: ScopeManager,
  parents: ReadonlyMap<Node, Node>,
  outer?: Scope,
): KeptNames {
  const kept: KeptNames = { functions: [], values: [] };
  const given = namesGiven(nodes);
  for (const scope of scopes.scopes) {
    if (scope === outer || scope.type === 'global') continue;
    for (const [name, variable] of scope.set) {
      if (!isSeen(variable, scope, parents)) continue;
      if (variable.defs.some(({ type }) => type === 'FunctionName')) kept.functions.push(name);
      if (given.has(name)) kept.values.push(name);
    }
  }
  return kept;
}

/**
 * The same of the text of a classic script, by its words: names are taken for one wherever they stand, and what may be a use is one. So
 * a name more than needed may stay, and none is lost.
 */
export async function visibleNamesIn(text: string): Promise<KeptNames> {
  const { comments } = await parse('script.cjs', text, { lang: 'js', sourceType: 'script' });
  const plain = withoutComments(text, comments);
  const functions = new Set<string>();
  const values = new Set<string>();
  const seen = new Set<string>();
  let before = { word: '', end: 0 };
  const word = /[A-Za-z_$\u0080-\uffff][\w$\u0080-\uffff]*/g;
  for (let match = word.exec(plain); match; match = word.exec(plain)) {
    const [name] = match;
    const start = match.index;
    const end = start + name.length;
    const between = plain.slice(before.end, start).trim();
    const last = between === '' ? before.word : '';
    const { word: keyword, end: keywordEnd } = before;
    before = { word: name, end };
    if (keyword === 'function' && (between === '' || between === '*')) {
      functions.add(name);
      if (isExpression(plain, keywordEnd - 'function'.length)) seen.add(name);
      continue;
    }
    const isMember = /(?:^|[^.])\.$|#$/.test(between) || (between === '' && plain[start - 1] === '.');
    if (isMember || last === 'var' || last === 'let' || last === 'const') {
      if (!isMember && givesName(plain, end)) values.add(name);
      continue;
    }
    const next = nextSign(plain, end);
    if (givesName(plain, end)) values.add(name);
    const isWritten = next === '=' && !/^\s*=[=>]/.test(plain.slice(end, end + 80));
    const isKey = next === ':' && /[{,]$/.test(between);
    const isCalled = (next === '(' && last !== 'new') || next === '`';
    if (!isWritten && !isKey && !isCalled) seen.add(name);
  }
  const areSeen = (names: ReadonlySet<string>) => [...names].filter((name) => seen.has(name));
  return { functions: areSeen(functions), values: areSeen(values) };
}

function withoutComments(text: string, comments: readonly { start: number; end: number }[]): string {
  let plain = '';
  let at = 0;
  for (const { start, end } of comments) {
    plain += `${text.slice(at, start)} `;
    at = end;
  }
  return plain + text.slice(at);
}

/** Whether the function at a place is a value: what stands in front of it asks for one. */
function isExpression(text: string, at: number): boolean {
  const before = text
    .slice(Math.max(0, at - 200), at)
    .trimEnd()
    .replace(/(?<![\w$])async$/, '')
    .trimEnd();
  return /[(,=:[!&|?+\-*/%^~<>]$|(?<![\w$.])(?:return|typeof|void|delete|in|of|instanceof|new|throw|await|yield|case)$/.test(
    before,
  );
}

/** Whether what ends at a place is assigned a function or class without a name. */
function givesName(text: string, at: number): boolean {
  const given = /^\s*(?:=|\|\|=|&&=|\?\?=)\s*(?:(\()|function\b|async\b|class\b|[\w$\u0080-\uffff]+\s*=>)/.exec(
    text.slice(at, at + 200),
  );
  if (!given?.[1]) return given !== null;
  const start = at + given[0].length;
  if (/^[\s(]*(?:function|async|class)\b/.test(text.slice(start, start + 80))) return true;
  const end = closingBracket(text, start);
  return end === undefined || /^\s*=>/.test(text.slice(end, end + 80)) || isArrowIn(text.slice(start, end));
}

/** A function in brackets of its own: `((a) => a)`. */
function isArrowIn(text: string): boolean {
  return /^\s*(?:\(|[\w$\u0080-\uffff]+\s*=>)/.test(text) && text.includes('=>');
}

/** Where a bracket that is open at a place is closed, behind it; `undefined` where that doesn't show soon. */
function closingBracket(text: string, at: number): number | undefined {
  const sign = /[()`]|"(?:[^"\\\n]|\\.)*"|'(?:[^'\\\n]|\\.)*'/g;
  sign.lastIndex = at;
  let open = 1;
  for (let match = sign.exec(text); match && match.index - at < 2000; match = sign.exec(text)) {
    if (match[0] === '`') return undefined;
    if (match[0] === '(') open++;
    if (match[0] === ')' && --open === 0) return sign.lastIndex;
  }
  return undefined;
}

function nextSign(text: string, at: number): string | undefined {
  while (/\s/.test(text[at] ?? '')) at++;
  return text[at];
}

/** Whether a function is used for more than to be called, so that somebody may look at its name. */
function isSeen(variable: Variable, scope: Scope, parents: ReadonlyMap<Node, Node>): boolean {
  // An expression is a value itself, unless it's called where it stands.
  if (scope.type === 'function-expression-name') {
    const parent = parents.get(scope.block as unknown as Node);
    const isCalled = parent?.type === 'CallExpression' && parent.callee === (scope.block as unknown as Node);
    if (!isCalled) return true;
  }
  return variable.references.some((reference) => reference.isRead() && !isCall(reference.identifier as unknown as Node, parents));
}

/** Whether a name stands where a function is called, and not made something new of. */
function isCall(node: Node, parents: ReadonlyMap<Node, Node>): boolean {
  const parent = parents.get(node);
  return (
    (parent?.type === 'CallExpression' && parent.callee === node) ||
    (parent?.type === 'TaggedTemplateExpression' && parent.tag === node)
  );
}

/** Whether a node that gives a name is what an `else` or the end of a condition comes to. */
export function isOfBranch(node: Node, parents: ReadonlyMap<Node, Node>): boolean {
  for (let at = node, parent = parents.get(at); parent; at = parent, parent = parents.get(at)) {
    if (parent.type === 'IfStatement' || parent.type === 'ConditionalExpression') {
      if (parent.test === at) return false;
      if (parent.alternate === at) return true;
    } else if (lastIn(parent) !== at) return false;
  }
  return false;
}

/** What a node comes to in the end, where that is one of its parts. */
function lastIn(node: Node): Node | undefined {
  if (node.type === 'SequenceExpression') return node.expressions.at(-1);
  if (node.type === 'BlockStatement') return node.body.at(-1);
  return node.type === 'ExpressionStatement' ? node.expression : undefined;
}

/** Types of nodes that give names. */
export const givingTypes = ['VariableDeclarator', 'AssignmentExpression', 'AssignmentPattern'];

/** Names of variables that are given a function or class without a name, by some nodes. */
function namesGiven(nodes: readonly Node[]): Set<string> {
  const names = new Set<string>();
  for (const node of nodes) {
    const [target, value] =
      node.type === 'VariableDeclarator'
        ? [node.id, node.init]
        : node.type === 'AssignmentExpression' || node.type === 'AssignmentPattern'
          ? [node.left, node.right]
          : [undefined, undefined];
    if (target?.type === 'Identifier' && value && isAnonymous(value)) names.add(target.name);
  }
  return names;
}
