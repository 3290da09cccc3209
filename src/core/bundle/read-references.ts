import type { Reference as ScopeReference } from 'eslint-scope';
import type { Identifier, Node } from 'estree';
import type { Spanned } from '../link/tree.js';
import type { Member, Named, Reference, Write } from './member.js';
import type { OwnNames } from './own-names.js';
import { isInNewCallee, membersOf, runsAtOnce, writeAround } from './references.js';
import { isAnonymous } from './syntax.js';

export interface ReferencesInput {
  names: OwnNames;
  parents: ReadonlyMap<Node, Node>;
  /** The module is on a cycle of imports: every assignment to its names is listed. */
  isOnCycle: boolean;
}

/** Where the top-level names of a module are used and written, and what its nested scopes declare. */
export interface References extends Pick<Member, 'own' | 'inner' | 'named' | 'writes'> {
  /** In the order of the text. */
  references: Reference[];
  /** Where a name was listed. */
  taken: ReadonlySet<number>;
}

/** Collects top-level names with their uses, and what nested scopes declare. */
export function readReferences(input: ReferencesInput): References {
  return new ReferenceReader(input).read();
}

class ReferenceReader {
  readonly #input: ReferencesInput;
  readonly #taken = new Set<number>();
  readonly #found = {
    references: [] as Reference[],
    own: new Set<string>(),
    inner: new Set<string>(),
    named: new Map<string, Named>(),
    writes: new Map<string, Write[]>(),
  };

  constructor(input: ReferencesInput) {
    this.#input = input;
  }

  read(): References {
    const { names } = this.#input;
    const inClass = new Map<Node, string>();
    for (const [name, variable] of names.variables) {
      if (name === 'arguments' && variable.defs.length === 0) continue;
      const isImport = names.isImport(name);
      if (!isImport) this.#found.own.add(name);
      for (const reference of variable.references) this.#take(name, reference, isImport);
      if (!isImport)
        for (const { name: node } of variable.defs) this.#takeDeclaration(name, node as unknown as Spanned<Identifier>);
      for (const { node } of variable.defs) if (node.type === 'ClassDeclaration') inClass.set(node as unknown as Node, name);
    }
    this.#readInner(inClass);
    this.#found.references.sort((a, b) => a.start - b.start);
    return { ...this.#found, taken: this.#taken };
  }

  #readInner(inClass: ReadonlyMap<Node, string>): void {
    const scopes = [...(this.#input.names.moduleScope?.childScopes ?? [])];
    for (let scope = scopes.pop(); scope; scope = scopes.pop()) {
      scopes.push(...scope.childScopes);
      const ofClass = inClass.get(scope.block as unknown as Node);
      for (const [name, variable] of scope.set) {
        // A class has its own name inside once more, which is the same name.
        if (name === ofClass && scope.type === 'class')
          for (const reference of variable.references) this.#take(name, reference, false);
        else if (name !== 'arguments') this.#found.inner.add(name);
      }
    }
  }

  #take(name: string, reference: ScopeReference, isImport: boolean): void {
    const node = reference.identifier as unknown as Spanned<Identifier>;
    if (reference.isWrite() && !isImport) this.#takeWrite(name, reference);
    // One with a default is listed twice.
    if (this.#input.parents.get(node)?.type === 'ExportSpecifier' || this.#taken.has(node.start)) return;
    this.#taken.add(node.start);
    this.#found.references.push(this.#referenceAt(name, node, reference.isWrite()));
  }

  /** A name where it is declared, which is no use of it. */
  #takeDeclaration(name: string, node: Spanned<Identifier>): void {
    if (this.#taken.has(node.start)) return;
    this.#taken.add(node.start);
    this.#found.references.push(this.#referenceAt(name, node, true));
  }

  #referenceAt(name: string, node: Spanned<Identifier>, isWrite: boolean): Reference {
    const { parents } = this.#input;
    const parent = parents.get(node);
    const around = parent?.type === 'AssignmentPattern' && parent.left === node ? parents.get(parent) : parent;
    return {
      name,
      start: node.start,
      end: node.end,
      isWrite,
      isShorthand: around?.type === 'Property' && around.shorthand,
      isNewed: isInNewCallee(node, parents),
      isAtOnce: runsAtOnce(node, parents),
      ...membersOf(node, parents),
    };
  }

  /** What has no name and is assigned here takes this one. */
  #takeValue(name: string, node: Spanned): void {
    const parent = this.#input.parents.get(node);
    const value =
      parent?.type === 'AssignmentExpression' || parent?.type === 'AssignmentPattern'
        ? parent.left === node && parent.right
        : parent?.type === 'VariableDeclarator' && parent.init;
    if (!value || !isAnonymous(value)) return;
    const { start, end } = value as Spanned;
    const named = this.#found.named.get(name) ?? { kind: 'value', values: [] };
    if (!named.values.some((other) => other.start === start)) named.values.push({ start, end });
    this.#found.named.set(name, named);
  }

  #takeWrite(name: string, reference: ScopeReference): void {
    const { parents, isOnCycle } = this.#input;
    const isInit = reference.init === true;
    const node = reference.identifier as unknown as Spanned;
    const target = writeAround(node, parents);
    this.#takeValue(name, node);
    if (!target || (isInit && !isOnCycle && target.type === 'VariableDeclaration')) return;
    const writes = this.#found.writes.get(name) ?? [];
    writes.push({ target: placesOf(target), isInit: isInit && target.type === 'VariableDeclaration' });
    this.#found.writes.set(name, writes);
  }
}

/** A node that writes, with no more of it than is needed to write beside it. */
function placesOf(node: Spanned): Spanned {
  const { type, start, end } = node;
  const at = ({ type: inner, start: from, end: to }: Spanned) => ({ type: inner, start: from, end: to });
  const more =
    node.type === 'VariableDeclaration'
      ? { declarations: node.declarations.map((declarator) => at(declarator as Spanned)) }
      : node.type === 'ForOfStatement' || node.type === 'ForInStatement'
        ? { body: at(node.body as Spanned) }
        : {};
  return { type, start, end, ...more } as unknown as Spanned;
}
