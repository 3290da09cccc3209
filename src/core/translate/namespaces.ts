import { analyze, type Scope, type ScopeManager } from 'eslint-scope';
import type {
  AssignmentExpression,
  BlockStatement,
  CallExpression,
  FunctionExpression,
  Identifier,
  Literal,
  Node,
  Program,
} from 'estree';
import { walk } from 'estree-walker';
import MagicString from 'magic-string';
import { parseSync } from 'oxc-parser';
import { declaredIn } from '../link/declared-names.js';
import { indexTree, type Spanned } from '../link/tree.js';
import { chainMaps, type RawMap } from '../maps/raw-map.js';

/**
 * Gives variables that a namespace of TypeScript exports without a value (`export let berth: string;`) one that `mendNamespaces` takes
 * away again: the translator would forget that they are exported. `undefined` where there are none, or the text can't be read.
 */
export function withInitializers(text: string, lang: 'ts' | 'tsx'): { text: string; map: RawMap } | undefined {
  const { program, errors } = parseSync(`module.${lang}`, text, { lang, sourceType: 'module', preserveParens: false });
  if (errors.length > 0) return undefined;
  const edited = new MagicString(text);
  let inNamespaces = 0;
  const isNamespace = ({ type }: Node) => (type as string) === 'TSModuleBlock';
  walk(program as unknown as Program, {
    leave(node: Node) {
      if (isNamespace(node)) inNamespaces--;
    },
    enter(node: Node, parent: Node | null) {
      if ((node as { declare?: boolean }).declare) return this.skip();
      if (isNamespace(node)) inNamespaces++;
      if (node.type !== 'VariableDeclaration' || node.kind === 'const' || parent?.type !== 'ExportNamedDeclaration') return;
      if (inNamespaces === 0) return;
      for (const { id, init, end, definite } of node.declarations as ((typeof node.declarations)[number] &
        Spanned & { definite?: boolean })[]) {
        if (init || id.type !== 'Identifier') continue;
        const mark = definite ? text.indexOf('!', (id as Spanned).start + id.name.length) : -1;
        if (mark !== -1) edited.remove(mark, mark + 1);
        edited.appendLeft(end, ` = ${noValue}`);
      }
    },
  });
  if (!edited.hasChanged()) return undefined;
  return { text: edited.toString(), map: edited.generateMap({ hires: 'boundary', source: 'source' }) as unknown as RawMap };
}

/** What stands for the value of a variable that has none: nobody writes that. */
const noValue = 'void ""';

/** A namespace as the translator writes it: `(function(_Tide) { … })(Tide || (Tide = {}))`. One may have several such parts. */
interface Part {
  body: BlockStatement;
  parameter: string;
  scope: Scope;
  /** What stands for the namespace: the parts of one have the same. */
  key: string;
  /** Exported name -> whether it's a variable that may be assigned. */
  exported: Map<string, boolean>;
}

/**
 * Lets names in namespaces of TypeScript mean what they do there. The translator takes what a namespace exports for variables of the
 * function that it becomes: assignments don't reach the namespace, and its other parts don't see them. `map` leads back from `text`.
 */
export function mendNamespaces(text: string, map: RawMap): { text: string; map: RawMap } | undefined {
  const { program, errors } = parseSync('module.js', text, { lang: 'js', sourceType: 'module', preserveParens: false });
  if (errors.length > 0) return undefined;
  const edited = new MagicString(text);
  new Mending(program as unknown as Program, edited).run();
  if (!edited.hasChanged()) return undefined;
  const own = edited.generateMap({ hires: 'boundary', source: 'text' }) as unknown as RawMap;
  return { text: edited.toString(), map: chainMaps(own, map) };
}

class Mending {
  readonly #tree: Program;
  readonly #edited: MagicString;
  readonly #parents: ReadonlyMap<Node, Node>;
  readonly #scopes: ScopeManager;
  readonly #parts: Part[] = [];
  readonly #partOf = new Map<Node, Part>();
  /** Names of enumerations, by what stands for them. */
  readonly #enums = new Map<string, string[]>();
  readonly #done = new Set<Node>();

  constructor(tree: Program, edited: MagicString) {
    this.#tree = tree;
    this.#edited = edited;
    this.#parents = indexTree(tree, new Set()).parents;
    this.#scopes = analyze(tree as never, { ecmaVersion: 2024, sourceType: 'module', fallback: 'iteration' } as never);
  }

  run(): void {
    walk(this.#tree, {
      enter: (node) => {
        if (node.type === 'CallExpression') this.#find(node);
      },
    });
    // What stands inside is nearer to a name.
    for (const part of this.#parts.toReversed()) {
      this.#mendOwn(part);
      this.#mendOthers(part);
    }
  }

  #find(call: CallExpression): void {
    const { callee } = call;
    const [given] = call.arguments;
    if (callee.type !== 'FunctionExpression' || callee.params.length !== 1 || given?.type !== 'LogicalExpression') return;
    const [parameter] = callee.params;
    if (parameter?.type !== 'Identifier' || given.left.type !== 'Identifier') return;
    const { name } = given.left;
    const key = this.#keyOf(callee, given.left);
    if (parameter.name === name) return void this.#enums.set(key, [...(this.#enums.get(key) ?? []), ...membersOf(callee, name)]);
    if (given.right.type !== 'AssignmentExpression' || !/^_/.test(parameter.name)) return;
    if (stemOf(parameter.name) !== stemOf(name)) return;
    const part: Part = {
      body: callee.body,
      parameter: parameter.name,
      scope: this.#scopes.acquire(callee as never)!,
      key,
      exported: new Map(),
    };
    this.#readExports(part);
    this.#parts.push(part);
    this.#partOf.set(callee, part);
  }

  /** The same for every part of a namespace: its name, and that of what it stands in. */
  #keyOf(of: FunctionExpression, name: Identifier): string {
    const path = [name.name];
    for (let at = this.#parents.get(of); at; at = this.#parents.get(at)) {
      const around = this.#partOf.get(at);
      if (around) return [around.key, ...path].join('.');
      // One in a function is another each time.
      if (/Function/.test(at.type)) path.unshift(`${(at as Spanned).start}`);
    }
    return path.join('.');
  }

  #readExports({ body, parameter, exported }: Part): void {
    const assignable = new Set<string>();
    for (const statement of body.body) {
      if (statement.type === 'VariableDeclaration') {
        for (const { id, init } of statement.declarations) {
          if (statement.kind !== 'const') for (const name of declaredIn(id)) assignable.add(name);
          if (id.type !== 'Identifier' || !init || memberWritten(init, parameter) !== id.name) continue;
          exported.set(id.name, statement.kind !== 'const');
          this.#takeAway(init as AssignmentExpression);
        }
      } else if (statement.type === 'ExpressionStatement') {
        const { expression } = statement;
        for (const part of expression.type === 'SequenceExpression' ? expression.expressions : [expression]) {
          const name = memberWritten(part, parameter);
          if (name !== undefined) exported.set(name, assignable.has(name));
          else if (part.type === 'CallExpression') this.#noteInner(part, parameter, exported);
        }
      }
    }
  }

  /** A variable without a value has that which was assigned before, if any: `let w = _N.w = void ""` becomes `let w = _N.w`. */
  #takeAway({ left, right }: AssignmentExpression): void {
    const isNone = right.type === 'UnaryExpression' && right.operator === 'void' && right.argument.type === 'Literal';
    if (isNone && (right.argument as Literal).value === '') this.#edited.remove((left as Spanned).end, (right as Spanned).end);
  }

  /** `(function(_Deep) { … })(Deep || (Deep = _N.Deep || (_N.Deep = {})))`. */
  #noteInner({ arguments: [given] }: CallExpression, parameter: string, exported: Part['exported']): void {
    if (given?.type !== 'LogicalExpression' || given.right.type !== 'AssignmentExpression') return;
    const { left, right } = given.right;
    if (left.type !== 'Identifier' || right.type !== 'LogicalExpression' || right.left.type !== 'MemberExpression') return;
    if ((right.left.object as Identifier).name === parameter) exported.set(left.name, false);
  }

  /** A variable that may be assigned is the namespace's member wherever the namespace names it. */
  #mendOwn({ exported, scope, parameter, body }: Part): void {
    for (const [name, isAssignable] of exported) {
      if (!isAssignable) continue;
      for (const { identifier, init } of scope.set.get(name)?.references ?? []) {
        const node = identifier as unknown as Spanned<Identifier>;
        if (!init && !this.#isExport(node, parameter, body)) this.#edit(node, parameter);
      }
    }
  }

  /** `_N.tide = tide`, as the translator writes it at the top of the namespace. */
  #isExport(node: Node, parameter: string, body: BlockStatement): boolean {
    const parent = this.#parents.get(node);
    if (parent?.type !== 'AssignmentExpression' || parent.right !== node) return false;
    if (memberWritten(parent, parameter) !== (node as Identifier).name) return false;
    const above = this.#parents.get(parent);
    const statement = above?.type === 'SequenceExpression' ? this.#parents.get(above) : above;
    return statement?.type === 'ExpressionStatement' && this.#parents.get(statement) === body;
  }

  /** What other parts of the namespace export is known in this one. */
  #mendOthers(part: Part): void {
    const names = new Set(this.#enums.get(part.key));
    for (const other of this.#parts)
      if (other !== part && other.key === part.key) for (const name of other.exported.keys()) names.add(name);
    if (names.size === 0) return;
    for (const { identifier } of part.scope.through) {
      const node = identifier as unknown as Spanned<Identifier>;
      if (names.has(node.name) && !this.#done.has(node)) this.#edit(node, part.parameter);
    }
  }

  #edit(node: Spanned<Identifier>, parameter: string): void {
    this.#done.add(node);
    const parent = this.#parents.get(node);
    const around = parent?.type === 'AssignmentPattern' && parent.left === node ? this.#parents.get(parent) : parent;
    const isShorthand = around?.type === 'Property' && around.shorthand;
    const text = `${isShorthand ? `${node.name}: ` : ''}${parameter}.${node.name}`;
    this.#edited.update(node.start, node.end, text, { storeName: true });
  }
}

/** What names have in common that the translator makes of one. */
function stemOf(name: string): string {
  return name.replace(/^_+|\d+$/g, '');
}

/** The member that an expression assigns to what a name stands for. */
function memberWritten(node: Node, object: string): string | undefined {
  if (node.type !== 'AssignmentExpression' || node.operator !== '=' || node.left.type !== 'MemberExpression') return undefined;
  const { left } = node;
  if (left.computed || left.object.type !== 'Identifier' || left.object.name !== object) return undefined;
  return (left.property as Identifier).name;
}

/** The members of an enumeration: `Tide[Tide["High"] = 0] = "High"`. */
function membersOf({ body }: FunctionExpression, name: string): string[] {
  const members: string[] = [];
  walk(body, {
    enter(node) {
      if (node.type !== 'MemberExpression' || !node.computed || node.property.type !== 'Literal') return;
      if (node.object.type === 'Identifier' && node.object.name === name) members.push(String(node.property.value));
    },
  });
  return members;
}
