import type {
  ArrowFunctionExpression,
  AssignmentExpression,
  CallExpression,
  Class,
  Expression,
  FunctionExpression,
  Identifier,
  NewExpression,
  Node,
  Pattern,
  Property,
  SpreadElement,
  Super,
} from 'estree';
import { walk } from 'estree-walker';
import { declaredIn } from '../link/declared-names.js';
import type { Spanned } from '../link/tree.js';
import { harmlessGlobals, isBuiltInMember, isHarmlessCall, isLiteral } from './built-ins.js';
import type { Effect } from './member.js';
import { isHarmlessOperation, isPrimitive, mayBeBigInt } from './primitives.js';
import { hasAccessors, memberPath } from './syntax.js';

/** What the scan needs to know of the module around. */
export interface EffectContext {
  /** Names that mean something of the global scope. */
  isGlobal(node: Node): boolean;
  isImport(name: string): boolean;
  /** Whether a name is the module's own and not that of a function around it. */
  isTop(node: Identifier): boolean;
  /** Top-level names whose members may be read without harm: functions, classes, literals. */
  isPlain(node: Identifier): boolean;
  /** Whether a top-level variable may not be there yet where it is read. */
  isEarly(node: Node, name: string): boolean;
  /** Whether a call is marked as one that only gives a value. */
  isMarked(node: Node): boolean;
}

/**
 * The places of a statement or expression that may do more than give a value when it runs. What stands in functions doesn't run.
 * Errs towards more: what isn't known to be harmless is listed.
 */
export function effectsOf(node: Node, context: EffectContext): Effect[] {
  const effects: Effect[] = [];
  new Scan(context, effects).visit(node);
  return effects;
}

class Scan {
  readonly #context: EffectContext;
  readonly #effects: Effect[];
  /** Names in functions that are run where they stand, of values that were made there and have no accessors. */
  #locals: ReadonlySet<string> = new Set();

  constructor(context: EffectContext, effects: Effect[]) {
    this.#context = context;
    this.#effects = effects;
  }

  #add(node: Node, more: Omit<Effect, 'at'> = {}): void {
    this.#effects.push({ at: (node as Spanned).start, ...more });
  }

  #each(nodes: Iterable<Node | null | undefined>): void {
    for (const node of nodes) if (node) this.visit(node);
  }

  visit(node: Node): void {
    switch (node.type) {
      case 'Literal':
      case 'FunctionExpression':
      case 'ArrowFunctionExpression':
      case 'FunctionDeclaration':
      case 'ThisExpression':
      case 'MetaProperty':
      case 'EmptyStatement':
        return;
      case 'Identifier':
        return this.#name(node);
      case 'TemplateLiteral':
        for (const part of node.expressions) isPrimitive(part) ? this.visit(part) : this.#add(part);
        return;
      case 'ArrayExpression':
        for (const element of node.elements) {
          if (element?.type !== 'SpreadElement') this.#each([element]);
          else if (element.argument.type === 'ArrayExpression') this.visit(element.argument);
          else this.#add(element);
        }
        return;
      case 'ObjectExpression':
        for (const member of node.properties) this.#member(member);
        return;
      case 'ClassExpression':
      case 'ClassDeclaration':
        return this.#class(node);
      case 'UnaryExpression':
        if (node.operator === 'delete') return this.#add(node);
        if (node.operator === 'typeof' && node.argument.type === 'Identifier' && this.#context.isGlobal(node.argument)) return;
        if (['-', '+', '~'].includes(node.operator) && !isPrimitive(node.argument)) this.#add(node);
        else if (node.operator === '+' && mayBeBigInt(node.argument)) this.#add(node);
        return this.visit(node.argument);
      case 'BinaryExpression':
        if (!isHarmlessOperation(node)) this.#add(node);
        return this.#each([node.left, node.right]);
      case 'LogicalExpression':
        return this.#each([node.left, node.right]);
      case 'ConditionalExpression':
      case 'IfStatement':
        return this.#each([node.test, node.consequent, node.alternate]);
      case 'SequenceExpression':
        return this.#each(node.expressions);
      case 'ChainExpression':
      case 'ExpressionStatement':
        return this.visit(node.expression);
      case 'BlockStatement':
        return this.#each(node.body);
      case 'ReturnStatement':
        return this.#each([node.argument]);
      case 'AssignmentExpression':
        return this.#assignment(node);
      case 'VariableDeclaration':
        for (const { id, init } of node.declarations) {
          if (id.type !== 'Identifier') this.#add(id);
          this.#each([init]);
        }
        return;
      case 'MemberExpression':
        return this.#read(node);
      case 'CallExpression':
      case 'NewExpression':
        return this.#call(node);
      default:
        this.#add(node);
    }
  }

  #name(node: Node & { type: 'Identifier' }): void {
    const { isGlobal, isImport, isEarly } = this.#context;
    if (isGlobal(node)) {
      if (!harmlessGlobals.has(node.name)) this.#add(node);
    } else if (isImport(node.name)) this.#add(node, { read: node.name });
    else if (isEarly(node, node.name)) this.#add(node);
  }

  #member(member: Property | SpreadElement): void {
    if (member.type === 'SpreadElement') {
      // What is spread is read.
      if (member.argument.type === 'ObjectExpression' && !hasAccessors(member.argument)) this.visit(member.argument);
      else this.#add(member);
      return;
    }
    this.#key(member);
    this.visit(member.value);
  }

  #key({ computed, key }: { computed: boolean; key: Node }): void {
    if (!computed) return;
    if (isPrimitive(key as Expression) || isKnownMember(key, this.#context)) this.visit(key);
    else this.#add(key);
  }

  #class(node: Class): void {
    const { superClass } = node;
    const isNamed = superClass?.type === 'Identifier' || superClass?.type === 'MemberExpression';
    if (superClass && !(isNamed && firstName(superClass))) this.visit(superClass);
    else if (superClass?.type === 'Identifier') this.#name(superClass);
    if ((node as { decorators?: unknown[] }).decorators?.length) this.#add(node as Node);
    for (const part of node.body.body) {
      if ((part as { decorators?: unknown[] }).decorators?.length) this.#add(part);
      if (part.type === 'StaticBlock') {
        if (part.body.length > 0) this.#add(part);
        continue;
      }
      this.#key(part);
      if (part.type === 'PropertyDefinition' && part.static) this.#each([part.value]);
    }
  }

  #read(node: Node & { type: 'MemberExpression' }): void {
    const { object } = node;
    const first = firstName(node);
    const isMeta = object.type === 'MetaProperty';
    const isPlain = object.type === 'Identifier' && !this.#context.isGlobal(object) && this.#context.isPlain(object);
    if (isMeta || (isKnownMember(node, this.#context) && first)) return;
    if (!isPlain) this.#add(node);
    else if (object.type === 'Identifier') this.#name(object);
    this.#key({ computed: node.computed, key: node.property });
  }

  #call(node: CallExpression | NewExpression): void {
    const { callee } = node;
    if (this.#context.isMarked(node)) return this.#arguments(node);
    const path = globalPath(callee, this.#context);
    if (path !== undefined && isHarmlessCall(path, node)) return this.#arguments(node);
    const isFunction = callee.type === 'FunctionExpression' || callee.type === 'ArrowFunctionExpression';
    if (isFunction && node.type === 'CallExpression' && !callee.async && !callee.generator) return this.#atOnce(callee, node);
    if (callee.type === 'Identifier' && !this.#context.isGlobal(callee)) {
      this.#add(node, this.#context.isTop(callee) ? { callee: callee.name } : {});
      this.#name(callee);
      return this.#arguments(node);
    }
    this.#add(node);
  }

  /** A function that is called where it stands: its body runs, and may do what it likes with what it makes itself. */
  #atOnce(callee: FunctionExpression | ArrowFunctionExpression, node: CallExpression): void {
    this.#arguments(node);
    if (callee.params.some(({ type }) => type !== 'Identifier')) return this.#add(node);
    const around = this.#locals;
    this.#body(callee);
    this.#locals = around;
  }

  #body(callee: FunctionExpression | ArrowFunctionExpression): void {
    const declared = declaredAnywhere(callee);
    const locals = new Set([...this.#locals].filter((name) => !declared.has(name)));
    this.#locals = locals;
    if (callee.body.type !== 'BlockStatement') return this.visit(callee.body);
    const note = (name: string) => {
      // Another of that name may be meant.
      if (declared.get(name) === 1) locals.add(name);
    };
    if (callee.type === 'FunctionExpression' && callee.id) note(callee.id.name);
    for (const statement of callee.body.body) if (statement.type === 'FunctionDeclaration') note(statement.id.name);
    for (const statement of callee.body.body) {
      if (inFunctions.has(statement.type)) this.visit(statement);
      else this.#add(statement);
      if (statement.type !== 'VariableDeclaration') continue;
      for (const { id, init } of statement.declarations)
        if (id.type === 'Identifier' && init && isLiteral.has(init.type) && !hasAccessors(init)) note(id.name);
    }
  }

  /** Something of a function's own may get members; everything else that is assigned is somebody's. */
  #assignment(node: AssignmentExpression): void {
    const { left, right, operator } = node;
    const isOwn = left.type === 'MemberExpression' && left.object.type === 'Identifier' && this.#locals.has(left.object.name);
    if (!isOwn || operator !== '=') return this.#add(node);
    const path = memberPath(left);
    if (!path || path[1] === '__proto__') return this.#add(node);
    this.visit(right);
  }

  #arguments(node: CallExpression | NewExpression): void {
    for (const argument of node.arguments) argument.type === 'SpreadElement' ? this.#add(argument) : this.visit(argument);
  }
}

/** How often each name is declared in a function: by itself, by a parameter, or anywhere but in functions within. */
function declaredAnywhere(callee: FunctionExpression | ArrowFunctionExpression): Map<string, number> {
  const counts = new Map<string, number>();
  const add = (names: readonly string[]) => {
    for (const name of names) counts.set(name, (counts.get(name) ?? 0) + 1);
  };
  if (callee.type === 'FunctionExpression' && callee.id) add([callee.id.name]);
  for (const parameter of callee.params) add(declaredIn(parameter));
  walk(callee.body, {
    enter(node) {
      if (node.type === 'VariableDeclarator') add(declaredIn(node.id));
      if (node.type === 'FunctionDeclaration' || node.type === 'ClassDeclaration') add([node.id.name]);
      if (node.type === 'CatchClause' && node.param) add(declaredIn(node.param));
      if (/Function/.test(node.type)) this.skip();
    },
  });
  return counts;
}

/** The name that a chain of members begins with. */
function firstName(node: Node | Super): string | undefined {
  if (node.type === 'Identifier') return node.name;
  return node.type === 'MemberExpression' && !node.computed ? firstName(node.object) : undefined;
}

/** `Object.create` as a text, where `Object` is the global one. */
function globalPath(node: Node | Super | Pattern, context: EffectContext): string | undefined {
  if (node.type === 'Identifier') return context.isGlobal(node) ? node.name : undefined;
  if (node.type !== 'MemberExpression' || node.computed || node.property.type !== 'Identifier') return undefined;
  const object = globalPath(node.object, context);
  return object === undefined ? undefined : `${object}.${node.property.name}`;
}

function isKnownMember(node: Node, context: EffectContext): boolean {
  const path = globalPath(node, context);
  return path !== undefined && isBuiltInMember(path);
}

const inFunctions = new Set([
  'FunctionDeclaration',
  'VariableDeclaration',
  'ExpressionStatement',
  'ReturnStatement',
  'IfStatement',
  'BlockStatement',
  'EmptyStatement',
]);
