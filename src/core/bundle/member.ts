import type { Node } from 'estree';
import type { Spanned } from '../link/tree.js';

/** Names that have to stay since a program may read them off functions. */
export interface KeptNames {
  /** Of function declarations and expressions. */
  functions: string[];
  /** Of variables that a function without a name is given to, whose name it takes (ECMA-262, 8.4.5). */
  values: string[];
}

/** A place where a top-level name of a module is used. */
export interface Reference {
  /** The name as the module has it. */
  name: string;
  start: number;
  end: number;
  isWrite: boolean;
  /** `{ name }`, which has to become `{ name: other }`. */
  isShorthand: boolean;
  /** It leads to what `new` makes something of. */
  isNewed: boolean;
  /** It runs when the module does, not in a function that somebody calls. */
  isAtOnce: boolean;
  /** Members that are read off it by fixed names: `name.a.b`. */
  members: { name: string; end: number }[];
  /** What stands there with its members is called, so that they are its `this`. */
  isCalled: boolean;
  /** The last of the members is assigned or deleted. */
  isMemberWrite: boolean;
}

/** Something that may do more than give a value, when the module runs. */
export interface Effect {
  at: number;
  /** Only if this function, called here, does more than give a value. */
  callee?: string;
  /** Only if this import may be read before its exporter has run. */
  read?: string;
}

/** An `import()`. */
export interface LateImport {
  start: number;
  /** `specifier`, or with its type behind a NUL; `undefined` where it's computed. */
  key: string | undefined;
  /** The only exports that are used of what comes; `undefined` for all. */
  names: string[] | undefined;
  /** Those that are called as members, so that their `this` is all of it. */
  called?: string[];
}

/** What a module runs at its top level: a statement, or one variable of a declaration. It stays as a whole or goes. */
export interface Unit {
  start: number;
  end: number;
  /** Keyword of the declaration that the unit is a variable of. */
  keyword?: string;
  /** Top-level names that it declares. */
  declares: string[];
  /** It only changes what stands under this top-level name. */
  changes?: string;
  references: Reference[];
  effects: Effect[];
  late: LateImport[];
}

/** A place that becomes something else in whatever way the module is printed. */
export type Place =
  /** What has no place in a script, as `export`. */
  | { kind: 'gone'; start: number; end: number }
  /** `export default` in front of an expression, with the place behind it. */
  | { kind: 'default'; start: number; end: number; valueEnd: number }
  /** Where a default export's declaration lacks a name. */
  | { kind: 'name'; start: number; end: number }
  | { kind: 'meta'; start: number; end: number }
  | { kind: 'dynamic'; start: number; end: number }
  /** The string of `new URL('…', import.meta.url)` or `import.meta.resolve('…')`; `isWorker` where a worker is made of it. */
  | { kind: 'url'; start: number; end: number; specifier: string; isWorker: boolean }
  /** The same for an expression that may name several files: `*` in `pattern` stands for anything but a slash. */
  | { kind: 'urls'; start: number; end: number; pattern: string }
  /** A name in a pattern that is a key too: `{ name }`. */
  | { kind: 'pattern'; start: number; end: number }
  /**
   * Where a branch gives a variable a function or class without a name, whose name it takes. A minifier would make one assignment of both
   * branches, which gives none. `isOwn`: the variable is one of the module's top level; `isBare`: a comma may stand there.
   */
  | { kind: 'branch'; start: number; end: number; name: string; isOwn: boolean; isBare: boolean }
  /** A known constant. */
  | { kind: 'text'; start: number; end: number; text: string };

/** A test that decides which code can run. */
export interface Choice {
  test: Node;
  kind: 'if' | 'conditional' | '&&' | '||' | '??' | '?.';
  /** What runs where the test holds, and where it doesn't; for logical operators only the right side. */
  yes: Branch | undefined;
  no: Branch | undefined;
}

export interface Branch {
  start: number;
  end: number;
  /** What stands for it where it can't run: an expression, or nothing for a statement. */
  standIn: '' | '0' | 'undefined';
  /** Names that `var` in it declares in the function around. */
  hoisted: string[];
}

/** How a module gets one of its names from another. `name` is `null` for the namespace object. */
export interface ImportedName {
  /** Index in `imports`. */
  from: number;
  name: string | null;
}

/** What carries a name. */
export interface Named {
  kind: 'function' | 'class' | 'value';
  /** Functions and classes without a name that take this one, wherever it's assigned (ECMA-262, 8.4.5). */
  values: { start: number; end: number }[];
}

/** A node that writes to a name. `isInit`: it declares the variable with its value. */
export interface Write {
  target: Spanned;
  isInit: boolean;
}

/** An ECMAScript module taken apart, so that what nobody needs can be left out and the rest share a scope with others. */
export interface Member {
  id: string;
  text: string;
  /** Static imports in the order of the text, by specifier and type, each once. */
  imports: { specifier: string; type?: string }[];
  /** Local name -> what it's imported as. */
  imported: Map<string, ImportedName>;
  /** Exported name -> local name. */
  exported: Map<string, string>;
  /** Exported name -> where it comes from. */
  passedOn: Map<string, ImportedName>;
  /** Indices of imports behind `export * from`. */
  stars: number[];
  units: Unit[];
  places: Place[];
  choices: Choice[];
  /** Top-level names, those of imports aside. */
  own: Set<string>;
  /** Names that nested scopes declare. */
  inner: Set<string>;
  /** Names that the module takes from the global scope. */
  free: Set<string>;
  /** Top-level `const`s whose value may be known -> the expression. */
  constants: Map<string, Node>;
  /** Objects and enumerations that are written down as a whole -> the expressions of their members. */
  objects: Map<string, Map<string, Node>>;
  /** Names whose function, class or value carries the name, as programs can see. */
  named: Map<string, Named>;
  /** Assignments to top-level names, each with whether it's the name's declaration. */
  writes: Map<string, Write[]>;
  /** Functions without effects by annotation. */
  harmless: Set<string>;
  /** Functions at the top that use `this`. */
  usesThis: Set<string>;
  /** Names in functions that programs may see. */
  kept: KeptNames;
  /** Comments that have to go with the code, such as licences. */
  licences: string[];
  /** Why it can't share a scope with others; `undefined` where it can. */
  apart?: string;
  isAsync: boolean;
}
