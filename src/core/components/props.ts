import { parseSync } from 'oxc-parser';
import { elementsIn } from '../text/walks.js';
import { mayBeTooDeep, refuseTooDeep } from '../translate/nesting.js';

/** What a prop takes, as far as the source says. */
export type PropType =
  | { kind: 'string' | 'number' | 'boolean' | 'function' | 'node' | 'date' | 'unknown' }
  | { kind: 'choice'; values: (string | number | boolean)[] }
  | { kind: 'list'; of: PropType }
  | { kind: 'object'; members: Prop[] };

/** A prop of a component. */
export interface Prop {
  name: string;
  type: PropType;
  isOptional: boolean;
}

/** A component of a file, by the name of its export (`default` for that one). */
export interface FoundComponent {
  name: string;
  /** What it's called where it's made; the export's name where it has none. */
  shown: string;
  /** `undefined` where the source doesn't say. */
  props: Prop[] | undefined;
}

interface Node {
  type: string;
  start: number;
  end: number;
  // biome-ignore lint/suspicious/noExplicitAny: a tree of many forms, of which a few are looked at
  [key: string]: any;
}

const unknown: PropType = { kind: 'unknown' };
/** Types in types: deeper, a value is nothing that a person fills in. */
const deepest = 4;

/** The script of a component file in its language, with the name of the framework whose file it is. */
export function scriptOf(
  source: string,
  file: string,
): { text: string; lang: 'tsx' | 'ts' | 'jsx'; framework?: 'vue' | 'svelte' } {
  const framework = /\.(vue|svelte)$/.exec(file)?.[1] as 'vue' | 'svelte' | undefined;
  if (!framework) return { text: source, lang: /\.tsx$/.test(file) ? 'tsx' : /\.ts$/.test(file) ? 'ts' : 'jsx' };
  const scripts = elementsIn(source, 'script').map(({ content }) => content);
  return { text: scripts.join('\n'), lang: 'ts', framework };
}

/**
 * The components that a file exports, with their props where TypeScript types or definitions say them. `typesOf` gives the text of a
 * module that types are imported from, by its specifier.
 */
export function findComponents(
  source: string,
  file: string,
  typesOf: (specifier: string) => string | undefined = () => undefined,
): FoundComponent[] {
  const { text, lang, framework } = scriptOf(source, file);
  refuseTooDeep(file, text);
  const { program } = parseSync(`module.${lang}`, text, { lang: lang as 'tsx', sourceType: 'module' });
  const body = program.body as unknown as Node[];
  const types = new Types(body, typesOf);
  if (framework === 'svelte') return [{ name: 'default', shown: nameOf(file), props: svelteProps(body, types) }];
  if (framework === 'vue') return [{ name: 'default', shown: nameOf(file), props: vueProps(body, types) }];
  return exportsOf(body)
    .filter(({ name, shown }) => /^[A-Z]/.test(name === 'default' ? shown || nameOf(file) : name))
    .map(({ name, shown, node }) => ({
      name,
      shown: shown || nameOf(file),
      props: node && propsOfFunction(node, types),
    }));
}

/** `berth-card.tsx` -> `BerthCard`. */
export function nameOf(file: string): string {
  const name = file.split('/').at(-1)!.replace(/\..*$/, '');
  return name.replace(/(?:^|[-_.\s])(\w)/g, (_, letter: string) => letter.toUpperCase());
}

/** A value that a prop may have, so that the component shows something. */
export function sampleOf({ name, type }: Prop): unknown {
  switch (type.kind) {
    case 'string':
      return /url|href|src/i.test(name) ? '#' : name[0]!.toUpperCase() + name.slice(1);
    case 'number':
      return 3;
    case 'boolean':
      return true;
    case 'choice':
      return type.values[0];
    case 'list':
      return [sampleOf({ name: name.replace(/s$/, '') || name, type: type.of, isOptional: false })];
    case 'object':
      return Object.fromEntries(
        type.members.filter(({ isOptional }) => !isOptional).map((member) => [member.name, sampleOf(member)]),
      );
    case 'node':
      return name === 'children' ? 'Children' : name;
    case 'date':
      return '2026-05-04T09:15:00Z';
    default:
      return undefined;
  }
}

/** Values for all props that must be given; functions aside, which do nothing. */
export function samplesOf(props: readonly Prop[]): Record<string, unknown> {
  const needed = props.filter(({ isOptional, type }) => !isOptional && type.kind !== 'function');
  return Object.fromEntries(needed.map((prop) => [prop.name, sampleOf(prop)]).filter(([, value]) => value !== undefined));
}

interface Exported {
  name: string;
  shown: string;
  node?: Node;
}

function exportsOf(body: readonly Node[]): Exported[] {
  const declared = new Map<string, Node>();
  const found: Exported[] = [];
  const note = (declaration: Node | null | undefined, isExported: boolean) => {
    if (!declaration) return;
    const all: [string, Node][] =
      declaration.type === 'VariableDeclaration'
        ? declaration.declarations.flatMap(({ id, init }: Node) =>
            id.type === 'Identifier' && init ? [[id.name, withType(init, id)]] : [],
          )
        : declaration.id
          ? [[declaration.id.name, declaration]]
          : [];
    for (const [name, node] of all) {
      declared.set(name, node);
      if (isExported && !/^TS/.test(declaration.type)) found.push({ name, shown: name, node });
    }
  };
  for (const statement of body) {
    if (statement.type === 'ExportNamedDeclaration') note(statement.declaration, true);
    else if (statement.type !== 'ExportDefaultDeclaration') note(statement, false);
  }
  for (const statement of body) {
    if (statement.type === 'ExportNamedDeclaration' && !statement.source)
      for (const { local, exported } of statement.specifiers ?? []) {
        const node = declared.get(local.name);
        if (node && !/^TS/.test(node.type)) found.push({ name: exported.name ?? exported.value, shown: local.name, node });
      }
    if (statement.type !== 'ExportDefaultDeclaration') continue;
    const { declaration } = statement as { declaration: Node } & Node;
    const node = declaration.type === 'Identifier' ? declared.get(declaration.name) : declaration;
    found.push({ name: 'default', shown: declaration.name ?? declaration.id?.name ?? '', ...(node ? { node } : {}) });
  }
  return found;
}

/** A function with the type that its variable is declared with, e.g. `const Row: FC<RowProps> = …`. */
function withType(init: Node, id: Node): Node {
  const annotation = id.typeAnnotation?.typeAnnotation as Node | undefined;
  return annotation ? { ...init, declaredType: annotation } : init;
}

function propsOfFunction(node: Node, types: Types): Prop[] | undefined {
  // memo(…), forwardRef(…), observer(…): what is in them.
  if (node.type === 'CallExpression') {
    const given = node.typeArguments?.params as Node[] | undefined;
    const generic = given?.at(-1);
    if (generic) return types.membersOf(generic);
    const [first] = node.arguments as Node[];
    return first && propsOfFunction(first, types);
  }
  const declared = node.declaredType?.typeArguments?.params?.[0] as Node | undefined;
  if (declared) return types.membersOf(declared);
  if (/^Class/.test(node.type)) {
    const given = (node.superTypeArguments ?? node.superTypeParameters)?.params?.[0] as Node | undefined;
    return given ? types.membersOf(given) : undefined;
  }
  if (!/Function/.test(node.type)) return undefined;
  const [first] = node.params as Node[];
  if (!first) return [];
  const annotation = (first.typeAnnotation ?? first.left?.typeAnnotation)?.typeAnnotation as Node | undefined;
  if (annotation) return types.membersOf(annotation);
  const pattern = first.type === 'AssignmentPattern' ? first.left : first;
  return pattern.type === 'ObjectPattern' ? patternProps(pattern) : undefined;
}

/** What is taken out of props whose type isn't written down; defaults say what it may be. */
function patternProps(pattern: Node): Prop[] {
  return pattern.properties.flatMap(({ type, key, value }: Node): Prop[] => {
    if (type === 'RestElement') return [];
    const fallback = value?.type === 'AssignmentPattern' ? (value.right as Node) : undefined;
    const isHandler = /^on[A-Z]/.test(key.name);
    return [
      {
        name: key.name ?? key.value,
        isOptional: fallback !== undefined,
        type: isHandler ? { kind: 'function' } : typeOfValue(fallback),
      },
    ];
  });
}

function typeOfValue(value: Node | undefined): PropType {
  if (value?.type === 'Literal' && /^(?:string|number|boolean)$/.test(typeof value.value))
    return { kind: typeof value.value as 'string' | 'number' | 'boolean' };
  if (value?.type === 'ArrayExpression') return { kind: 'list', of: unknown };
  return unknown;
}

function svelteProps(body: readonly Node[], types: Types): Prop[] | undefined {
  for (const statement of body) {
    for (const { id, init } of statement.type === 'VariableDeclaration' ? (statement.declarations as Node[]) : []) {
      if (init?.type !== 'CallExpression' || init.callee.name !== '$props') continue;
      const annotation = (id.typeAnnotation?.typeAnnotation ?? init.typeArguments?.params?.[0]) as Node | undefined;
      const fromTypes = annotation && types.membersOf(annotation);
      return fromTypes ?? (id.type === 'ObjectPattern' ? patternProps(id) : undefined);
    }
  }
  const legacy = body.flatMap(({ type, declaration }) =>
    type === 'ExportNamedDeclaration' && declaration?.type === 'VariableDeclaration' && declaration.kind === 'let'
      ? (declaration.declarations as Node[])
      : [],
  );
  return legacy.map(({ id, init }) => {
    const annotation = id.typeAnnotation?.typeAnnotation as Node | undefined;
    return { name: id.name, isOptional: init !== null, type: annotation ? types.of(annotation) : typeOfValue(init ?? undefined) };
  });
}

function vueProps(body: readonly Node[], types: Types): Prop[] | undefined {
  const call = findCall(body, 'defineProps');
  if (call) {
    const given = call.typeArguments?.params?.[0] as Node | undefined;
    if (given) return withDefaults(body, types.membersOf(given));
    return call.arguments[0] ? runtimeProps(call.arguments[0]) : [];
  }
  const options = body.find(({ type }) => type === 'ExportDefaultDeclaration')?.declaration as Node | undefined;
  const object = options?.type === 'CallExpression' ? (options.arguments[0] as Node) : options;
  const props =
    object?.type === 'ObjectExpression' ? object.properties.find(({ key }: Node) => key?.name === 'props') : undefined;
  return props ? runtimeProps(props.value) : [];
}

/** Props that `withDefaults` gives a value need none. */
function withDefaults(body: readonly Node[], props: Prop[] | undefined): Prop[] | undefined {
  const defaults = findCall(body, 'withDefaults')?.arguments[1] as Node | undefined;
  const names = new Set<string>((defaults?.properties ?? []).map(({ key }: Node) => key?.name));
  return props?.map((prop) => (names.has(prop.name) ? { ...prop, isOptional: true } : prop));
}

const vueTypes: Record<string, PropType> = {
  String: { kind: 'string' },
  Number: { kind: 'number' },
  Boolean: { kind: 'boolean' },
  Function: { kind: 'function' },
  Date: { kind: 'date' },
  Array: { kind: 'list', of: unknown },
  Object: { kind: 'object', members: [] },
};

function runtimeProps(node: Node): Prop[] | undefined {
  if (node.type === 'ArrayExpression')
    return node.elements.map(({ value }: Node) => ({ name: value, type: unknown, isOptional: true }));
  if (node.type !== 'ObjectExpression') return undefined;
  return node.properties.map(({ key, value }: Node): Prop => {
    const inner = value.type === 'ObjectExpression' ? (value.properties as Node[]) : [];
    const field = (name: string) => inner.find((one) => one.key?.name === name)?.value as Node | undefined;
    const type = (value.type === 'ObjectExpression' ? field('type') : value) as Node | undefined;
    const one = type?.type === 'ArrayExpression' ? type.elements[0] : type?.type === 'TSAsExpression' ? type.expression : type;
    return { name: key.name ?? key.value, type: vueTypes[one?.name] ?? unknown, isOptional: field('required')?.value !== true };
  });
}

function findCall(body: readonly Node[], name: string): Node | undefined {
  const look = (node: unknown): Node | undefined => {
    if (Array.isArray(node)) {
      for (const one of node) {
        const found = look(one);
        if (found) return found;
      }
      return undefined;
    }
    if (typeof node !== 'object' || node === null || !('type' in node)) return undefined;
    const { type, callee, ...rest } = node as Node;
    if (type === 'CallExpression' && callee.name === name) return node as Node;
    return look(Object.values(rest));
  };
  return look(body);
}

/** The types that a file declares, and those that it imports where they can be read. */
class Types {
  readonly #declared = new Map<string, Node>();
  /** Objects that constants hold. */
  readonly #constants = new Map<string, Node>();

  constructor(body: readonly Node[], typesOf: (specifier: string) => string | undefined, depth = 0) {
    for (const statement of body) {
      const node = (/^Export/.test(statement.type) ? statement.declaration : statement) as Node | null;
      if (node && /^TS(?:Interface|TypeAlias|Enum)Declaration$/.test(node.type)) this.#declared.set(node.id.name, node);
      for (const { id, init } of node?.type === 'VariableDeclaration' ? (node.declarations as Node[]) : []) {
        const value = /^TS(?:As|Satisfies)Expression$/.test(init?.type) ? init.expression : init;
        if (value?.type === 'ObjectExpression') this.#constants.set(id.name, value);
      }
    }
    for (const statement of depth > 2 ? [] : body) {
      if (statement.type !== 'ImportDeclaration' || !/^\./.test(statement.source.value)) continue;
      const text = typesOf(statement.source.value);
      if (text === undefined || mayBeTooDeep(text)) continue;
      const { program } = parseSync('module.ts', text, { lang: 'tsx', sourceType: 'module' });
      const inner = new Types(program.body as unknown as Node[], () => undefined, depth + 1);
      for (const { imported, local } of statement.specifiers ?? []) {
        const node = imported && inner.#declared.get(imported.name);
        if (!node) continue;
        for (const [name, declared] of inner.#declared) if (!this.#declared.has(name)) this.#declared.set(name, declared);
        this.#declared.set(local.name, node);
      }
    }
  }

  /** The members of an object type. */
  membersOf(node: Node, depth = 0): Prop[] | undefined {
    if (depth > deepest) return undefined;
    if (node.type === 'TSTypeLiteral') return this.#members(node.members, depth);
    if (node.type === 'TSIntersectionType') return node.types.flatMap((type: Node) => this.membersOf(type, depth) ?? []);
    if (node.type === 'TSInterfaceBody') return this.#members(node.body, depth);
    if (node.type !== 'TSTypeReference') return undefined;
    const name = node.typeName.name as string;
    const given = node.typeArguments?.params as Node[] | undefined;
    if (given?.[0] && /^(?:Readonly|PropsWithChildren|Required|NonNullable)$/.test(name))
      return this.membersOf(given[0], depth + 1);
    if (given?.[0] && name === 'Partial')
      return this.membersOf(given[0], depth + 1)?.map((prop) => ({ ...prop, isOptional: true }));
    if (given?.[1] && /^(?:Pick|Omit)$/.test(name)) {
      const keys = this.of(given[1], depth + 1);
      const names = new Set(keys.kind === 'choice' ? keys.values : []);
      return this.membersOf(given[0]!, depth + 1)?.filter((prop) => names.has(prop.name) === (name === 'Pick'));
    }
    const declared = this.#declared.get(name);
    if (declared?.type === 'TSInterfaceDeclaration') {
      const above = (declared.extends ?? []).flatMap(
        ({ expression, typeArguments }: Node) =>
          this.membersOf({ type: 'TSTypeReference', typeName: expression, typeArguments } as unknown as Node, depth + 1) ?? [],
      );
      return [...above, ...this.#members(declared.body.body, depth)];
    }
    return declared?.type === 'TSTypeAliasDeclaration' ? this.membersOf(declared.typeAnnotation, depth + 1) : undefined;
  }

  /** What a type is to somebody who fills it in. */
  of(node: Node, depth = 0): PropType {
    if (depth > deepest) return unknown;
    switch (node.type) {
      case 'TSStringKeyword':
      case 'TSTemplateLiteralType':
        return { kind: 'string' };
      case 'TSNumberKeyword':
        return { kind: 'number' };
      case 'TSBooleanKeyword':
        return { kind: 'boolean' };
      case 'TSFunctionType':
        return { kind: 'function' };
      case 'TSLiteralType':
        return 'value' in node.literal ? { kind: 'choice', values: [node.literal.value] } : unknown;
      case 'TSArrayType':
        return { kind: 'list', of: this.of(node.elementType, depth + 1) };
      case 'TSTypeOperator':
        return node.operator === 'keyof' ? this.#keys(node.typeAnnotation) : this.of(node.typeAnnotation, depth);
      case 'TSUnionType':
        return this.#union(node.types, depth);
      case 'TSTypeLiteral':
      case 'TSIntersectionType':
        return { kind: 'object', members: this.membersOf(node, depth + 1) ?? [] };
      case 'TSTypeReference':
        return this.#reference(node, depth);
      default:
        return unknown;
    }
  }

  #reference(node: Node, depth: number): PropType {
    const name = (node.typeName.name ?? node.typeName.right?.name) as string;
    const given = node.typeArguments?.params as Node[] | undefined;
    if (/^(?:Array|ReadonlyArray|Set)$/.test(name))
      return { kind: 'list', of: given?.[0] ? this.of(given[0], depth + 1) : unknown };
    if (/^(?:ReactNode|ReactElement|JSXElement|ComponentChildren|Snippet|VNode|Element)$/.test(name)) return { kind: 'node' };
    if (/Handler$|^Dispatch$|^SetStateAction$/.test(name)) return { kind: 'function' };
    if (name === 'Date') return { kind: 'date' };
    if (/^(?:Record|Map|WeakMap)$/.test(name)) return { kind: 'object', members: [] };
    if (given?.[0] && /^(?:Readonly|Required|NonNullable|Partial)$/.test(name)) return this.of(given[0], depth + 1);
    const declared = this.#declared.get(name);
    if (declared?.type === 'TSTypeAliasDeclaration' && !/^TS(?:TypeLiteral|IntersectionType)$/.test(declared.typeAnnotation.type))
      return this.of(declared.typeAnnotation, depth + 1);
    if (declared?.type === 'TSEnumDeclaration') {
      const members = (declared.body?.members ?? declared.members) as Node[];
      return { kind: 'choice', values: members.map(({ initializer }, index) => initializer?.value ?? index) };
    }
    const members = this.membersOf(node, depth + 1);
    return members ? { kind: 'object', members } : unknown;
  }

  /** The names in a constant of the file, or in an object type. */
  #keys(node: Node): PropType {
    const object = node.type === 'TSTypeQuery' ? this.#constants.get(node.exprName.name) : undefined;
    const names = object
      ? object.properties.map(({ key }: Node) => key?.name ?? key?.value)
      : this.membersOf(node)?.map((member) => member.name);
    return names?.length ? { kind: 'choice', values: names } : unknown;
  }

  #union(all: readonly Node[], depth: number): PropType {
    const types = all.filter(({ type }) => !/^TS(?:Undefined|Null)Keyword$/.test(type)).map((node) => this.of(node, depth));
    if (types.length > 0 && types.every((type) => type.kind === 'choice'))
      return { kind: 'choice', values: types.flatMap((type) => (type.kind === 'choice' ? type.values : [])) };
    return types[0] ?? unknown;
  }

  #members(members: readonly Node[], depth: number): Prop[] {
    return members.flatMap((member): Prop[] => {
      const name = member.key?.name ?? member.key?.value;
      if (name === undefined) return [];
      if (member.type === 'TSMethodSignature')
        return [{ name, isOptional: member.optional === true, type: { kind: 'function' } }];
      const type = member.typeAnnotation?.typeAnnotation as Node | undefined;
      return [{ name, isOptional: member.optional === true, type: type ? this.of(type, depth + 1) : unknown }];
    });
  }
}
