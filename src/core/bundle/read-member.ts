import type {
  AssignmentExpression,
  CallExpression,
  Comment,
  Expression,
  Identifier,
  ImportDeclaration,
  Literal,
  Node,
  Program,
  Statement,
} from 'estree';
import { declaredIn, hoistedNames } from '../link/declared-names.js';
import { analysePlaces } from '../link/module-analysis.js';
import { type ParsedModule, parseModule } from '../link/parse-module.js';
import { scriptsNamed } from '../link/script-imports.js';
import { indexTree, type Spanned } from '../link/tree.js';
import { gap } from '../text/walks.js';
import { changedName } from './changed-name.js';
import { choicesIn, choiceTypes, knownPart, mayBeKnown, type Standing, unknown } from './choices.js';
import { defaultName } from './default-name.js';
import { lateImportsIn } from './late-imports.js';
import { isLicence } from './licence.js';
import type { ImportedName, LateImport, Member, Place, Unit } from './member.js';
import { OwnNames } from './own-names.js';
import { harmlessIn, placesBehind } from './pure-marks.js';
import { type References, readReferences } from './read-references.js';
import { type EffectContext, effectsOf } from './scan-effects.js';
import { callsEval, isAnonymous, membersWritten, urlsIn, usesOwnThis } from './syntax.js';
import { givingTypes, isOfBranch, visibleNames } from './visible-names.js';

export interface MemberInput {
  id: string;
  /** Plain JavaScript. */
  text: string;
  constants: Readonly<Record<string, string>>;
  /** The module is on a cycle of imports: every assignment to its names is listed. */
  isOnCycle: boolean;
  /** See `parseModule`. */
  isMuch?: boolean;
}

/** Takes an ECMAScript module apart. Nothing of its syntax tree is kept but expressions that may be constants. */
export function readMember(input: MemberInput): Member {
  return new Reader(input).read();
}

const lookedAt = new Set([...choiceTypes, ...givingTypes, 'ImportExpression', 'MetaProperty', 'NewExpression', 'Property']);
const functionHead = new RegExp(String.raw`^(?:async\b${gap}*)?function(?:${gap}*\*)?`);
const defaultHead = new RegExp(`^export${gap}+default`);
const withCalls = new Set([...lookedAt, 'CallExpression']);

/** A module's text as a tree. What a translator has made can be read; if it can't, nobody may be left with half a program. */
function parsed(id: string, text: string, isMuch: boolean | undefined): ParsedModule {
  try {
    return parseModule(text, isMuch);
  } catch (error) {
    throw new Error(`${id} can't be read as it was translated: ${(error as Error).message}`, { cause: error });
  }
}

class Reader {
  readonly #input: MemberInput;
  readonly #tree: Program;
  readonly #comments: readonly Comment[];
  readonly #parents: ReadonlyMap<Node, Node>;
  /** Nodes of the types that are looked at by themselves. */
  readonly #nodes: readonly Node[];
  readonly #member: Member;
  readonly #names: OwnNames;
  readonly #references: References;
  /** Where top-level names are used. */
  #ownPlaces: Set<number> | undefined;
  readonly #context: EffectContext;
  readonly #standing: Standing;
  /** Specifier and type -> the index in `imports`. */
  readonly #imports = new Map<string, number>();
  readonly #ownMembers = new Map<string, boolean>();
  /** Where calls begin that are marked as giving a value only. */
  readonly #marked: ReadonlySet<number>;

  constructor(input: MemberInput) {
    this.#input = input;
    const { text, id, isMuch } = input;
    const { tree, comments } = parsed(id, text, isMuch);
    this.#tree = tree;
    this.#comments = comments;
    const index = indexTree(this.#tree, /importScripts|\bimport\s*\.\s*meta\s*\.\s*resolve\b/.test(text) ? withCalls : lookedAt);
    this.#parents = index.parents;
    this.#nodes = index.nodes;
    this.#marked = placesBehind(/[@#]__PURE__/, text, comments);
    this.#names = new OwnNames(this.#tree, { parents: this.#parents, marked: this.#marked, isOnCycle: input.isOnCycle });
    const { scopes, globals, moduleScope } = this.#names;
    this.#references = readReferences({ names: this.#names, parents: this.#parents, isOnCycle: input.isOnCycle });
    this.#context = this.#names.contextOf(this.#references.taken);
    this.#standing = this.#names.standingBy(this.#references.taken);
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
      choices: choicesIn(this.#nodes, this.#standing),
      own: this.#references.own,
      inner: this.#references.inner,
      free: new Set([...globals].map((node) => (node as Identifier).name)),
      constants: new Map(),
      objects: new Map(),
      named: this.#references.named,
      writes: this.#references.writes,
      harmless: new Set(),
      usesThis: new Set(),
      kept: visibleNames(this.#nodes, scopes, this.#parents, moduleScope),
      licences: [],
      isAsync: false,
    };
  }

  read(): Member {
    const member = this.#member;
    const { isAsync, edits } = analysePlaces(this.#tree, this.#input.text, this.#input.constants, () => this.#names.scopes);
    member.isAsync = isAsync;
    member.places.push(...edits.map((edit): Place => ({ kind: 'text', ...edit })));
    if (this.#input.text.includes('eval') && callsEval(this.#tree, this.#names.globals))
      member.apart = 'it calls eval, which sees every name around';
    member.licences.push(
      ...this.#comments.flatMap(({ type, value }) =>
        isLicence(value) ? [type === 'Block' ? `/*${value}*/` : `//${value}`] : [],
      ),
    );
    for (const statement of this.#tree.body) this.#statement(statement as Spanned<Statement>);
    this.#assignReferences();
    this.#readSyntax();
    return member;
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
    const key = `${specifier}\0${type ?? ''}`;
    const known = this.#imports.get(key);
    if (known !== undefined) return known;
    this.#imports.set(key, this.#member.imports.length);
    return this.#member.imports.push({ specifier, ...(type === undefined ? {} : { type }) }) - 1;
  }

  #export(name: string, local: string): void {
    const imported: ImportedName | undefined = this.#member.imported.get(local) ?? this.#importedLater(local);
    if (imported) this.#member.passedOn.set(name, imported);
    else this.#member.exported.set(name, local);
  }

  /** An import declaration may stand below the export that names it. */
  #importedLater(local: string): ImportedName | undefined {
    if (!this.#names.isImport(local)) return undefined;
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
      if (isAnonymous(declaration)) member.named.set(defaultName, { kind: 'value', values: [place] });
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
    const head = isFunction ? functionHead : /^class/;
    const at = declaration.start + head.exec(member.text.slice(declaration.start))![0].length;
    member.places.push({ kind: 'name', start: at, end: at });
    member.named.set(defaultName, { kind: isFunction ? 'function' : 'class', values: [] });
    if (isFunction && this.#usesThis(declaration)) member.usesThis.add(defaultName);
    this.#exportOwn(defaultName);
    this.#unit({ start, end, declares: [defaultName] }, declaration);
  }

  /** Brackets around a value stand in front of it. */
  #valueStart(start: number, valueStart: number): number {
    const head = defaultHead.exec(this.#input.text.slice(start, valueStart))!;
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
        this.#noteNamed(statement.id.name, 'function');
        if (this.#usesThis(statement)) this.#member.usesThis.add(statement.id.name);
      }
      if (statement.type === 'ClassDeclaration') this.#noteNamed(statement.id.name, 'class');
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

  /** A function or class may be replaced by what has no name of its own. */
  #noteNamed(name: string, kind: 'function' | 'class'): void {
    this.#member.named.set(name, { kind, values: this.#member.named.get(name)?.values ?? [] });
  }

  #usesThis(of: Spanned): boolean {
    return this.#input.text.slice(of.start, of.end).includes('this') && usesOwnThis(of);
  }

  #variable(name: string, init: Spanned<Expression>, kind: string): void {
    const member = this.#member;
    const isFunction = init.type === 'FunctionExpression';
    if (isFunction && this.#usesThis(init)) member.usesThis.add(name);
    const isFixed = kind === 'const' || !this.#names.isReassigned(name);
    const members = isFixed ? membersWritten(init, (node) => this.#marked.has(node.start)) : undefined;
    const known = (node: Node) => (mayBeKnown(node, this.#standing) ? knownPart(node, this.#standing) : unknown);
    if (members) {
      for (const [key, value] of members) members.set(key, known(value));
      member.objects.set(name, members);
    }
    if (isFixed && mayBeKnown(init, this.#standing)) member.constants.set(name, known(init));
  }

  #unit(unit: Pick<Unit, 'start' | 'end' | 'declares' | 'keyword'>, node: Node | null | undefined): void {
    const isOwn = (name: string) => this.#member.own.has(name) && !this.#member.imported.has(name);
    const input = { names: this.#names, parents: this.#parents, context: this.#context, isOwn, known: this.#ownMembers };
    const changes = node ? changedName(node, input) : undefined;
    const effects = !node || changes !== undefined ? [] : effectsOf(node, this.#context);
    this.#member.units.push({ ...unit, ...(changes === undefined ? {} : { changes }), references: [], effects, late: [] });
  }

  /** Gives each unit the uses of top-level names in it. */
  #assignReferences(): void {
    this.#eachWithUnit(this.#references.references, (reference, unit) => unit.references.push(reference));
  }

  /** Calls `take` with each of some places, in the order of the text, and the unit in which it stands. Export lists and imports stand in none. */
  #eachWithUnit<Place extends { start: number }>(places: readonly Place[], take: (place: Place, unit: Unit) => void): void {
    const { units } = this.#member;
    let at = 0;
    for (const place of places) {
      while (at < units.length && units[at]!.end <= place.start) at++;
      const unit = units[at];
      if (unit && unit.start <= place.start) take(place, unit);
    }
  }

  /** `import.meta`, `import()`, URLs, marks and the names of anonymous functions. */
  #readSyntax(): void {
    const member = this.#member;
    const lates: LateImport[] = [];
    for (const { late, place } of lateImportsIn(this.#nodes, this.#parents)) {
      lates.push(late);
      member.places.push(place);
    }
    lates.sort((a, b) => a.start - b.start);
    this.#eachWithUnit(lates, (late, unit) => unit.late.push(late));
    for (const node of this.#nodes) {
      const { start } = node as Spanned;
      const parent = this.#parents.get(node) ?? null;
      if (node.type === 'MetaProperty' && node.meta.name === 'import')
        member.places.push(this.#metaPlace(node as Spanned, parent));
      if (node.type === 'Property' && node.shorthand && parent?.type === 'ObjectPattern' && !this.#references.taken.has(start))
        member.places.push({ kind: 'pattern', start, end: start + (node.key as Identifier).name.length });
      if (node.type === 'AssignmentExpression') this.#noteBranch(node as Spanned<AssignmentExpression>);
      member.places.push(...urlsIn(node, parent, member.text));
      if (node.type === 'CallExpression')
        for (const file of scriptsNamed(node as CallExpression, member.text))
          member.places.push({ kind: 'url', ...file, isWorker: false });
    }
    for (const name of harmlessIn(this.#tree, this.#parents, { text: this.#input.text, comments: this.#comments }))
      member.harmless.add(name);
    member.places.sort((a, b) => a.start - b.start || a.end - b.end);
  }

  /** What programs see of names is kept of branches too. */
  #noteBranch(node: Spanned<AssignmentExpression>): void {
    const { operator, left, right } = node;
    // With brackets around it, a variable gives no name.
    if (operator !== '=' || left.type !== 'Identifier' || (left as Spanned).start !== node.start || !isAnonymous(right)) return;
    if (!isOfBranch(node, this.#parents)) return;
    this.#ownPlaces ??= new Set(this.#references.references.map(({ start }) => start));
    const isOwn = this.#ownPlaces.has(node.start);
    const parent = this.#parents.get(node)?.type;
    const isBare = parent === 'ExpressionStatement' || parent === 'SequenceExpression';
    this.#member.places.push({ kind: 'branch', start: node.start, end: node.end, name: left.name, isOwn, isBare });
  }

  #metaPlace(node: Spanned, parent: Node | null): Place {
    const isLive = parent?.type === 'MemberExpression' && !parent.computed && (parent.property as Identifier).name === 'live';
    const { start, end } = isLive ? (parent as Spanned) : node;
    return isLive ? { kind: 'text', start, end, text: 'undefined' } : { kind: 'meta', start, end };
  }
}

type Sourced = { source: Literal };

function nameOf(node: Identifier | Literal): string {
  return node.type === 'Identifier' ? node.name : String(node.value);
}
