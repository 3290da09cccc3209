import { parseSync } from 'oxc-parser';
import { elementsIn } from '../text/walks.js';
import { refuseTooDeep } from '../translate/nesting.js';
import { type Node, type Prop, type PropType, Types, unknown } from './prop-types.js';

/** A component of a file, by the name of its export (`default` for that one). */
export interface FoundComponent {
  name: string;
  /** What it's called where it's made; the export's name where it has none. */
  shown: string;
  /** `undefined` where the source doesn't say. */
  props: Prop[] | undefined;
}

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
