import { analyze, type Definition, type Scope, type ScopeManager, type Variable } from 'eslint-scope';
import type { Node, Program } from 'estree';
import type { Spanned } from '../link/tree.js';
import type { Standing } from './choices.js';
import { mayGetAccessors } from './escapes.js';
import type { EffectContext } from './scan-effects.js';
import { hasAccessors } from './syntax.js';

export interface OwnNamesInput {
  parents: ReadonlyMap<Node, Node>;
  /** Where calls begin that are marked as giving a value only. */
  marked: ReadonlySet<number>;
  isOnCycle: boolean;
}

/** What the scopes of a module say of its top-level names. */
export class OwnNames {
  readonly scopes: ScopeManager;
  readonly moduleScope: Scope | undefined;
  readonly variables: ReadonlyMap<string, Variable>;
  /** Names that nothing in the module declares. */
  readonly globals = new Set<Node>();
  readonly #marked: ReadonlySet<number>;
  readonly #parents: ReadonlyMap<Node, Node>;
  readonly #reassigned = new Map<string, boolean>();
  readonly #accessed = new Map<string, boolean>();
  readonly #isOnCycle: boolean;

  constructor(tree: Program, { parents, marked, isOnCycle }: OwnNamesInput) {
    this.#parents = parents;
    this.#marked = marked;
    this.#isOnCycle = isOnCycle;
    this.scopes = analyze(tree as never, { ecmaVersion: 2024, sourceType: 'module', fallback: 'iteration' } as never);
    this.moduleScope = this.scopes.globalScope?.childScopes[0];
    this.variables = this.moduleScope?.set ?? new Map();
    for (const { identifier } of this.scopes.globalScope?.through ?? []) this.globals.add(identifier as unknown as Node);
  }

  /** What a look at effects has to know. `top`: where top-level names stand. */
  contextOf(top: ReadonlySet<number>): EffectContext {
    const isTop = (node: Node) => top.has((node as Spanned).start);
    return {
      isGlobal: (node) => this.globals.has(node),
      isImport: (name) => this.isImport(name),
      isTop,
      isPlain: (node) => isTop(node) && (this.#isEnum(node.name) || (this.isFresh(node.name) && !this.#getsAccessors(node.name))),
      isEarly: (node, name) => this.#isEarly(node as Spanned, name),
      isMarked: (node) => this.#marked.has((node as Spanned).start),
    };
  }

  /** What identifiers are where they stand. `top` as above. */
  standingBy(top: ReadonlySet<number>): Standing {
    const isTop = (node: Node) => top.has((node as Spanned).start);
    return {
      isTop,
      isConstant: (node) => isTop(node) && this.mayBeConstant(node.name),
      isGlobal: (node) => this.globals.has(node),
    };
  }

  isImport(name: string): boolean {
    return this.variables.get(name)?.defs[0]?.type === 'ImportBinding';
  }

  mayBeConstant(name: string): boolean {
    const definition = this.variables.get(name)?.defs[0];
    return definition !== undefined && (definition.type === 'ImportBinding' || isConst(definition));
  }

  isReassigned(name: string): boolean {
    const known = this.#reassigned.get(name);
    if (known !== undefined) return known;
    const isReassigned =
      this.variables.get(name)?.references.some((reference) => reference.isWrite() && !reference.init) === true;
    this.#reassigned.set(name, isReassigned);
    return isReassigned;
  }

  /** Whether a name stands for a function, a class or a literal of this module that nothing replaces. */
  isFresh(name: string): boolean {
    const [definition] = this.variables.get(name)?.defs ?? [];
    return definition !== undefined && !this.isReassigned(name) && isMadeBy(definition);
  }

  /** Whether a name stands for nothing yet, or for what only this module has made: what is added to it is added to nothing else. */
  isOwnObject(name: string): boolean {
    const { defs = [], references = [] } = this.variables.get(name) ?? {};
    const isNothing = (definition: Definition) => definition.type === 'Variable' && !(definition.node as { init?: unknown }).init;
    const isEmpty = (node: Node | null) => node?.type === 'ObjectExpression' && node.properties.length === 0;
    return (
      (this.#isEnum(name) || defs.every((definition) => isNothing(definition) || isMadeBy(definition))) &&
      references.every(
        (reference) =>
          !reference.isWrite() || (reference.init && !reference.partial) || isEmpty(reference.writeExpr as Node | null),
      )
    );
  }

  /** Whether reading a member may run code that is put there later. */
  #getsAccessors(name: string): boolean {
    const known = this.#accessed.get(name) ?? this.#mayGetAccessors(name);
    this.#accessed.set(name, known);
    return known;
  }

  #mayGetAccessors(name: string): boolean {
    // Others on a circle may have what a module exports before it has run.
    if (this.#isOnCycle) return true;
    const { references, defs } = this.variables.get(name)!;
    return mayGetAccessors(references, defs[0]!.node as unknown as Node, { scopes: this.scopes, parents: this.#parents });
  }

  /** Enumerations are made by a marked call. */
  #isEnum(name: string): boolean {
    const definition = this.variables.get(name)?.defs[0];
    const { init } = (definition?.node ?? {}) as unknown as { init?: Node | null };
    const isCalled = init?.type === 'CallExpression' && init.callee.type === 'FunctionExpression';
    return isCalled && this.#marked.has((init as Spanned).start);
  }

  /** Whether a name is read where its declaration has not been reached. */
  #isEarly(node: Spanned, name: string): boolean {
    const definition = this.variables.get(name)?.defs[0];
    if (!definition || definition.type === 'FunctionName' || definition.type === 'ImportBinding') return false;
    return (definition.name as unknown as Spanned).end > node.start;
  }
}

/** Whether what declares a name makes a function, a class or a literal, without accessors. */
function isMadeBy(definition: Definition): boolean {
  if (definition.type === 'FunctionName') return true;
  if (definition.type === 'ClassName') return !hasAccessors(definition.node as unknown as Node);
  const { id, init } = definition.node as unknown as { id?: Node; init?: Node | null };
  return id?.type === 'Identifier' && !!init && freshTypes.has(init.type) && !hasAccessors(init);
}

function isConst(definition: { type: string; parent?: unknown }): boolean {
  return definition.type === 'Variable' && (definition.parent as { kind?: string } | undefined)?.kind === 'const';
}

const freshTypes = new Set([
  'FunctionExpression',
  'ArrowFunctionExpression',
  'ObjectExpression',
  'ArrayExpression',
  'ClassExpression',
]);
