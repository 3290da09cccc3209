import { analyze, type Scope, type ScopeManager, type Reference as ScopeReference, type Variable } from 'eslint-scope';
import type { Comment, Expression, Identifier, ImportDeclaration, Literal, Node, Program, Statement } from 'estree';
import { walk } from 'estree-walker';
import { parseSync } from 'oxc-parser';
import { analysePlaces } from '../link/module-analysis.js';
import { indexTree, type Spanned } from '../link/tree.js';
import { choicesIn, choiceTypes, mayBeKnown } from './choices.js';
import { declaredIn, hoistedNames } from './declared-names.js';
import { lateImportsIn } from './late-imports.js';
import type { ImportedName, Member, Place, Reference, Unit } from './member.js';
import { isInNewCallee, membersOf, runsAtOnce, writeAround } from './references.js';
import { type EffectContext, effectsOf } from './scan-effects.js';
import { callsEval, hasAccessors, isAnonymous, memberBase, membersWritten, namespaceOf, urlIn, usesOwnThis } from './syntax.js';
import { givingTypes, visibleNames } from './visible-names.js';

export interface MemberInput {
  id: string;
  /** Plain JavaScript. */
  text: string;
  constants: Readonly<Record<string, string>>;
  /** The module is on a cycle of imports: every assignment to its names is listed. */
  isOnCycle: boolean;
}

/** Takes an ECMAScript module apart. Nothing of its syntax tree is kept but expressions that may be constants. */
export function readMember(input: MemberInput): Member {
  return new Reader(input).read();
}

const lookedAt = new Set([...choiceTypes, ...givingTypes, 'ImportExpression', 'MetaProperty', 'NewExpression', 'Property']);

class Reader {
  readonly #input: MemberInput;
  readonly #tree: Program;
  readonly #comments: readonly Comment[];
  readonly #parents: ReadonlyMap<Node, Node>;
  /** Nodes of the types that are looked at by themselves. */
  readonly #nodes: readonly Node[];
  readonly #member: Member;
  readonly #scopes: ScopeManager;
  readonly #globals = new Set<Node>();
  readonly #variables: ReadonlyMap<string, Variable>;
  readonly #moduleScope: Scope | undefined;
  readonly #references: Reference[] = [];
  /** Where a name was listed already. */
  readonly #taken = new Set<number>();
  /** Where calls begin that are marked as giving a value only. */
  readonly #marked: ReadonlySet<number>;

  constructor(input: MemberInput) {
    this.#input = input;
    const { text, id } = input;
    const parsed = parseSync('module.js', text, { lang: 'js', sourceType: 'module', preserveParens: false });
    this.#tree = parsed.program as unknown as Program;
    this.#comments = parsed.comments as unknown as Comment[];
    const index = indexTree(this.#tree, lookedAt);
    this.#parents = index.parents;
    this.#nodes = index.nodes;
    const scopes = analyze(this.#tree as never, { ecmaVersion: 2024, sourceType: 'module', fallback: 'iteration' } as never);
    this.#scopes = scopes;
    this.#moduleScope = scopes.globalScope?.childScopes[0];
    this.#variables = this.#moduleScope?.set ?? new Map();
    for (const { identifier } of scopes.globalScope?.through ?? []) this.#globals.add(identifier as unknown as Node);
    this.#marked = this.#placesBehind(/[@#]__PURE__/);
    this.#member = {
      id,
      text,
      imports: [],
      imported: new Map(),
      exported: new Map(),
      passedOn: new Map(),
      stars: [],
      units: [],
      places: [],
      choices: choicesIn(this.#nodes, (name) => this.#mayBeConstant(name)),
      own: new Set(),
      inner: new Set(),
      free: new Set([...this.#globals].map((node) => (node as Identifier).name)),
      constants: new Map(),
      objects: new Map(),
      named: new Map(),
      writes: new Map(),
      harmless: new Set(),
      usesThis: new Set(),
      kept: visibleNames(this.#nodes, scopes, this.#parents, this.#moduleScope),
      licences: [],
      isAsync: false,
    };
  }

  read(): Member {
    const member = this.#member;
    const { isAsync, edits } = analysePlaces(this.#tree, this.#input.text, this.#input.constants, () => this.#scopes);
    member.isAsync = isAsync;
    member.places.push(...edits.map((edit): Place => ({ kind: 'text', ...edit })));
    if (this.#input.text.includes('eval') && callsEval(this.#tree, this.#globals))
      member.apart = 'it calls eval, which sees every name around';
    member.licences.push(
      ...this.#comments.flatMap(({ type, value }) =>
        isLicence(value) ? [type === 'Block' ? `/*${value}*/` : `//${value}`] : [],
      ),
    );
    this.#readNames();
    for (const statement of this.#tree.body) this.#statement(statement as Spanned<Statement>);
    this.#assignReferences();
    this.#readSyntax();
    return member;
  }

  /** Where the code behind comments of a kind begins. */
  #placesBehind(mark: RegExp): Set<number> {
    const places = new Set<number>();
    if (!mark.test(this.#input.text)) return places;
    const ends = new Map(this.#comments.map((comment) => [(comment as unknown as Spanned).start, comment]));
    for (const comment of this.#comments) {
      if (!mark.test(comment.value)) continue;
      // Brackets may belong to what follows or stand around it.
      for (let at: number | undefined = (comment as unknown as Spanned).end; at !== undefined; ) {
        at += /^\s*/.exec(this.#input.text.slice(at, at + 200))![0].length;
        places.add(at);
        at = this.#input.text[at] === '(' ? at + 1 : (ends.get(at) as Spanned | undefined)?.end;
      }
    }
    return places;
  }

  #mayBeConstant(name: string): boolean {
    const definition = this.#variables.get(name)?.defs[0];
    return definition !== undefined && (definition.type === 'ImportBinding' || isConst(definition));
  }

  /** Collects top-level names with their uses, and what nested scopes declare. */
  #readNames(): void {
    const member = this.#member;
    const inClass = new Map<Node, string>();
    for (const [name, variable] of this.#variables) {
      if (name === 'arguments' && variable.defs.length === 0) continue;
      const isImport = variable.defs[0]?.type === 'ImportBinding';
      if (!isImport) member.own.add(name);
      for (const reference of variable.references) this.#take(name, reference, isImport);
      if (!isImport)
        for (const definition of variable.defs) this.#takeDeclaration(name, definition.name as unknown as Spanned<Identifier>);
      for (const { node } of variable.defs) if (node.type === 'ClassDeclaration') inClass.set(node as unknown as Node, name);
    }
    const scopes = [...(this.#moduleScope?.childScopes ?? [])];
    for (let scope = scopes.pop(); scope; scope = scopes.pop()) {
      scopes.push(...scope.childScopes);
      const ofClass = inClass.get(scope.block as unknown as Node);
      for (const [name, variable] of scope.set) {
        // A class has its own name inside once more, which is the same name.
        if (name === ofClass && scope.type === 'class')
          for (const reference of variable.references) this.#take(name, reference, false);
        else if (name !== 'arguments') member.inner.add(name);
      }
    }
  }

  #take(name: string, reference: ScopeReference, isImport: boolean): void {
    const node = reference.identifier as unknown as Spanned<Identifier>;
    if (reference.isWrite() && !isImport) this.#takeWrite(name, reference);
    // One with a default is listed twice.
    if (this.#parents.get(node)?.type === 'ExportSpecifier' || this.#taken.has(node.start)) return;
    this.#taken.add(node.start);
    this.#references.push(this.#referenceAt(name, node, reference.isWrite()));
  }

  /** A name where it is declared, which is no use of it. */
  #takeDeclaration(name: string, node: Spanned<Identifier>): void {
    if (this.#taken.has(node.start)) return;
    this.#taken.add(node.start);
    this.#references.push(this.#referenceAt(name, node, true));
  }

  #referenceAt(name: string, node: Spanned<Identifier>, isWrite: boolean): Reference {
    const parent = this.#parents.get(node);
    const around = parent?.type === 'AssignmentPattern' && parent.left === node ? this.#parents.get(parent) : parent;
    return {
      name,
      start: node.start,
      end: node.end,
      isWrite,
      isShorthand: around?.type === 'Property' && around.shorthand,
      isNewed: isInNewCallee(node, this.#parents),
      isAtOnce: runsAtOnce(node, this.#parents),
      ...membersOf(node, this.#parents),
    };
  }

  #takeWrite(name: string, reference: ScopeReference): void {
    const isInit = reference.init === true;
    const node = reference.identifier as unknown as Spanned;
    const target = writeAround(node, this.#parents);
    const parent = this.#parents.get(node);
    const value = parent?.type === 'AssignmentExpression' && parent.left === node ? parent.right : undefined;
    if (value && isAnonymous(value)) this.#member.named.set(name, { kind: 'value' });
    if (!target || (isInit && !this.#input.isOnCycle && target.type === 'VariableDeclaration')) return;
    const writes = this.#member.writes.get(name) ?? [];
    writes.push({ target: placesOf(target), isInit: isInit && target.type === 'VariableDeclaration' });
    this.#member.writes.set(name, writes);
  }

  #statement(statement: Spanned<Statement> | Spanned<Program['body'][number]>): void {
    const member = this.#member;
    const { start, end } = statement;
    switch (statement.type) {
      case 'ImportDeclaration':
        return this.#import(statement);
      case 'ExportAllDeclaration': {
        const from = this.#importFrom(statement);
        if (statement.exported) member.passedOn.set(nameOf(statement.exported), { from, name: null });
        else member.stars.push(from);
        return;
      }
      case 'ExportNamedDeclaration': {
        const { declaration, source, specifiers } = statement;
        const from = source ? this.#importFrom(statement as Sourced) : -1;
        for (const { local, exported } of specifiers) {
          const [name, localName] = [nameOf(exported), nameOf(local)];
          if (source) member.passedOn.set(name, { from, name: localName });
          else this.#export(name, localName);
        }
        if (!declaration) return;
        const inner = declaration as Spanned;
        member.places.push({ kind: 'gone', start, end: inner.start });
        for (const name of this.#declare(declaration as Spanned<Statement>, start, end)) this.#export(name, name);
        return;
      }
      case 'ExportDefaultDeclaration':
        return this.#exportDefault(statement);
      case 'ExpressionStatement':
        if ('directive' in statement && statement.directive) return;
        break;
      case 'EmptyStatement':
        return;
    }
    this.#declare(statement as Spanned<Statement>, start, end);
  }

  #import(statement: Spanned<ImportDeclaration>): void {
    const from = this.#importFrom(statement);
    for (const specifier of statement.specifiers) {
      const name =
        specifier.type === 'ImportNamespaceSpecifier'
          ? null
          : specifier.type === 'ImportDefaultSpecifier'
            ? 'default'
            : nameOf(specifier.imported);
      this.#member.imported.set(specifier.local.name, { from, name });
    }
  }

  #importFrom(statement: Sourced): number {
    const specifier = String(statement.source.value);
    const { attributes = [] } = statement as unknown as { attributes?: { key: Identifier | Literal; value: Literal }[] };
    const type = attributes.find(({ key }) => nameOf(key) === 'type')?.value.value as string | undefined;
    const known = this.#member.imports.findIndex((other) => other.specifier === specifier && other.type === type);
    if (known !== -1) return known;
    return this.#member.imports.push({ specifier, ...(type === undefined ? {} : { type }) }) - 1;
  }

  #export(name: string, local: string): void {
    const imported: ImportedName | undefined = this.#member.imported.get(local) ?? this.#importedLater(local);
    if (imported) this.#member.passedOn.set(name, imported);
    else this.#member.exported.set(name, local);
  }

  /** An import declaration may stand below the export that names it. */
  #importedLater(local: string): ImportedName | undefined {
    if (this.#variables.get(local)?.defs[0]?.type !== 'ImportBinding') return undefined;
    for (const statement of this.#tree.body)
      if (statement.type === 'ImportDeclaration') this.#import(statement as Spanned<ImportDeclaration>);
    return this.#member.imported.get(local);
  }

  #exportDefault(statement: Spanned<Program['body'][number] & { type: 'ExportDefaultDeclaration' }>): void {
    const member = this.#member;
    const { start, end } = statement;
    const declaration = statement.declaration as Spanned;
    if (declaration.type !== 'FunctionDeclaration' && declaration.type !== 'ClassDeclaration') {
      const place = { start: declaration.start, end: declaration.end };
      member.places.push({ kind: 'default', start, end: this.#valueStart(start, declaration.start), valueEnd: end });
      if (isAnonymous(declaration)) member.named.set(defaultName, { kind: 'value', value: place });
      this.#exportOwn(defaultName);
      this.#unit({ start, end, declares: [defaultName] }, declaration);
      return;
    }
    member.places.push({ kind: 'gone', start, end: declaration.start });
    const { id } = declaration as { id: Identifier | null };
    if (id) {
      for (const name of this.#declare(declaration as Spanned<Statement>, start, end)) this.#export('default', name);
      return;
    }
    const isFunction = declaration.type === 'FunctionDeclaration';
    const head = isFunction
      ? /^(?:async\b(?:\s|\/\*[\s\S]*?\*\/|\/\/.*)*)?function(?:(?:\s|\/\*[\s\S]*?\*\/|\/\/.*)*\*)?/
      : /^class/;
    const at = declaration.start + head.exec(member.text.slice(declaration.start))![0].length;
    member.places.push({ kind: 'name', start: at, end: at });
    member.named.set(defaultName, { kind: isFunction ? 'function' : 'class' });
    if (isFunction && usesOwnThis(declaration)) member.usesThis.add(defaultName);
    this.#exportOwn(defaultName);
    this.#unit({ start, end, declares: [defaultName] }, declaration);
  }

  /** Brackets around a value stand in front of it. */
  #valueStart(start: number, valueStart: number): number {
    const head = /^export(?:\s|\/\*[\s\S]*?\*\/|\/\/.*)+default/.exec(this.#input.text.slice(start, valueStart))!;
    return start + head[0].length;
  }

  #exportOwn(name: string): void {
    this.#member.own.add(name);
    this.#member.exported.set('default', name);
  }

  /** Takes a statement as one unit, or one for each of its variables. Returns the names that it declares. */
  #declare(statement: Spanned<Statement>, start: number, end: number): string[] {
    if (statement.type !== 'VariableDeclaration') {
      const declares =
        statement.type === 'FunctionDeclaration' || statement.type === 'ClassDeclaration'
          ? [statement.id.name]
          : hoistedNames(statement);
      if (statement.type === 'FunctionDeclaration') {
        this.#member.named.set(statement.id.name, { kind: 'function' });
        if (usesOwnThis(statement)) this.#member.usesThis.add(statement.id.name);
      }
      if (statement.type === 'ClassDeclaration') this.#member.named.set(statement.id.name, { kind: 'class' });
      this.#unit({ start, end, declares }, statement);
      return declares;
    }
    const all: string[] = [];
    for (const declarator of statement.declarations as Spanned<(typeof statement.declarations)[number]>[]) {
      const declares = declaredIn(declarator.id as Node);
      all.push(...declares);
      const isAlone = statement.declarations.length === 1;
      if (declarator.id.type === 'Identifier' && declarator.init)
        this.#variable(declarator.id.name, declarator.init as Spanned<Expression>, statement.kind);
      const place = isAlone
        ? { start, end }
        : { start: declarator.start, end: declarator.end, keyword: statement.kind as string };
      this.#unit({ ...place, declares }, declarator.id.type === 'Identifier' ? declarator.init : statement);
    }
    return all;
  }

  #variable(name: string, init: Spanned<Expression>, kind: string): void {
    const member = this.#member;
    const isFunction = init.type === 'FunctionExpression';
    if (isFunction && usesOwnThis(init)) member.usesThis.add(name);
    if (isAnonymous(init)) member.named.set(name, { kind: 'value', value: { start: init.start, end: init.end } });
    const isFixed = kind === 'const' || !this.#isReassigned(name);
    const members = isFixed ? membersWritten(init, (node) => this.#marked.has(node.start)) : undefined;
    const isKnown = (node: Node) => mayBeKnown(node, (other) => this.#mayBeConstant(other));
    if (members) {
      for (const [key, value] of members) if (!isKnown(value)) members.set(key, unknown);
      member.objects.set(name, members);
    }
    if (isFixed && isKnown(init)) member.constants.set(name, init);
  }

  #isReassigned(name: string): boolean {
    return this.#variables.get(name)?.references.some((reference) => reference.isWrite() && !reference.init) === true;
  }

  #unit(unit: Pick<Unit, 'start' | 'end' | 'declares' | 'keyword'>, node: Node | null | undefined): void {
    const changes = node ? this.#changed(node) : undefined;
    const effects = !node || changes !== undefined ? [] : effectsOf(node, this.#context);
    this.#member.units.push({ ...unit, ...(changes === undefined ? {} : { changes }), references: [], effects, late: [] });
  }

  /** The one top-level name whose value a statement adds something to, and does nothing else. */
  #changed(node: Node): string | undefined {
    if (node.type !== 'ExpressionStatement') return undefined;
    const { expression } = node;
    const isOwn = (name: string) => this.#member.own.has(name) && !this.#member.imported.has(name);
    if (expression.type === 'AssignmentExpression' && expression.operator === '=') {
      const { left, right } = expression;
      if (effectsOf(right, this.#context).length > 0) return undefined;
      if (left.type === 'Identifier') return isOwn(left.name) && !this.#context.isEarly(left, left.name) ? left.name : undefined;
      const first = left.type === 'MemberExpression' ? memberBase(left) : undefined;
      return first !== undefined && isOwn(first) && this.#isFresh(first) ? first : undefined;
    }
    return expression.type === 'CallExpression' ? namespaceOf(expression, this.#context, isOwn) : undefined;
  }

  /** Whether a name stands for a function, a class or a literal of this module that nothing replaces. */
  #isFresh(name: string): boolean {
    const [definition] = this.#variables.get(name)?.defs ?? [];
    if (!definition || this.#isReassigned(name)) return false;
    if (definition.type === 'FunctionName') return true;
    if (definition.type === 'ClassName') return (definition.node as unknown as { superClass: unknown }).superClass === null;
    const { init } = definition.node as unknown as { init?: Node | null };
    return init !== undefined && init !== null && freshTypes.has(init.type) && !hasAccessors(init);
  }

  get #context(): EffectContext {
    const member = this.#member;
    return {
      isGlobal: (node) => this.#globals.has(node),
      isImport: (name) => member.imported.has(name) || this.#variables.get(name)?.defs[0]?.type === 'ImportBinding',
      isPlain: (name) => this.#isFresh(name) || this.#isEnum(name),
      isEarly: (node, name) => {
        const definition = this.#variables.get(name)?.defs[0];
        if (!definition || definition.type === 'FunctionName' || definition.type === 'ImportBinding') return false;
        return (definition.name as unknown as Spanned).end > (node as Spanned).start;
      },
      isMarked: (node) => this.#marked.has((node as Spanned).start),
    };
  }

  /** Enumerations are made by a marked call. */
  #isEnum(name: string): boolean {
    const definition = this.#variables.get(name)?.defs[0];
    const { init } = (definition?.node ?? {}) as unknown as { init?: Node | null };
    return (
      init?.type === 'CallExpression' && init.callee.type === 'FunctionExpression' && this.#marked.has((init as Spanned).start)
    );
  }

  /** Gives each unit the uses of top-level names in it. */
  #assignReferences(): void {
    const { units } = this.#member;
    this.#references.sort((a, b) => a.start - b.start);
    let at = 0;
    for (const reference of this.#references) {
      while (at < units.length && units[at]!.end <= reference.start) at++;
      const unit = units[at];
      if (unit && unit.start <= reference.start) unit.references.push(reference);
    }
    // Export lists and imports stand in no unit.
  }

  /** `import.meta`, `import()`, URLs, marks and the names of anonymous functions. */
  #readSyntax(): void {
    const member = this.#member;
    const unitAt = (start: number) => member.units.find((unit) => unit.start <= start && start < unit.end);
    for (const { late, place } of lateImportsIn(this.#nodes, this.#parents)) {
      unitAt(late.start)?.late.push(late);
      member.places.push(place);
    }
    for (const node of this.#nodes) {
      const { start } = node as Spanned;
      const parent = this.#parents.get(node) ?? null;
      if (node.type === 'MetaProperty' && node.meta.name === 'import')
        member.places.push(this.#metaPlace(node as Spanned, parent));
      if (node.type === 'Property' && node.shorthand && parent?.type === 'ObjectPattern' && !this.#taken.has(start))
        member.places.push({ kind: 'pattern', start, end: start + (node.key as Identifier).name.length });
      if (node.type === 'NewExpression') {
        const url = urlIn(node, parent, member.text);
        if (url) member.places.push(url);
      }
    }
    const harmless = this.#placesBehind(/[@#]__NO_SIDE_EFFECTS__/);
    if (harmless.size > 0)
      walk(this.#tree, {
        enter: (node) => {
          if (harmless.has((node as Spanned).start)) this.#noteHarmless(node);
        },
      });
    member.places.sort((a, b) => a.start - b.start || a.end - b.end);
  }

  #metaPlace(node: Spanned, parent: Node | null): Place {
    const isLive = parent?.type === 'MemberExpression' && !parent.computed && (parent.property as Identifier).name === 'live';
    const { start, end } = isLive ? (parent as Spanned) : node;
    return isLive ? { kind: 'text', start, end, text: 'undefined' } : { kind: 'meta', start, end };
  }

  /** A function marked as one that only gives a value. */
  #noteHarmless(node: Node): void {
    if (node.type === 'FunctionDeclaration' && node.id) this.#member.harmless.add(node.id.name);
    const inner = node.type === 'ExportNamedDeclaration' || node.type === 'ExportDefaultDeclaration' ? node.declaration : node;
    if (inner?.type === 'FunctionDeclaration') this.#member.harmless.add((inner.id as Identifier | null)?.name ?? defaultName);
    if (inner?.type === 'VariableDeclaration' && inner.kind === 'const')
      for (const { id } of inner.declarations) if (id.type === 'Identifier') this.#member.harmless.add(id.name);
    const parent = this.#parents.get(node);
    if (parent?.type === 'VariableDeclarator' && parent.id.type === 'Identifier') this.#member.harmless.add(parent.id.name);
  }
}

/** What a default export without a name is called among a module's top-level names: no name of a text is like that. */
export const defaultName = '*default';

/** Whether a comment has to stay with the code. */
export function isLicence(comment: string): boolean {
  return /^!|@(?:license|licence|preserve|copyright)\b/i.test(comment);
}

/** An expression of which nothing is known. */
const unknown: Node = { type: 'Super' };

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

type Sourced = { source: Literal };

function nameOf(node: Identifier | Literal): string {
  return node.type === 'Identifier' ? node.name : String(node.value);
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
