import { parseSync } from 'oxc-parser';
import { mayBeTooDeep } from '../translate/nesting.js';

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

/** A node of a tree of TypeScript. */
export interface Node {
  type: string;
  start: number;
  end: number;
  // biome-ignore lint/suspicious/noExplicitAny: a tree of many forms, of which a few are looked at
  [key: string]: any;
}

export const unknown: PropType = { kind: 'unknown' };
/** Types in types: deeper, a value is nothing that a person fills in. */
const deepest = 4;

/** The types that a file declares, and those that it imports where they can be read. */
export class Types {
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
