import type { Export, Import } from 'es-module-lexer';
import type {
  ExportAllDeclaration,
  ExportNamedDeclaration,
  Expression,
  Identifier,
  ImportDeclaration,
  Literal,
  Node,
  Pattern,
  Program,
} from 'estree';
import { walk } from 'estree-walker';
import { parseSync } from 'oxc-parser';
import type { LexerRecords } from './linked.js';
import type { Spanned } from './tree.js';

type Attributes = { key: Identifier | Literal; value: Literal }[];

/**
 * What the lexer would give for a module, from its syntax tree: for texts that the lexer may read otherwise than the parser
 * does. Only what linking looks at is filled in. `undefined` where the parser refuses the text too.
 */
export function recordsFromTree(text: string): LexerRecords | undefined {
  const { program, errors } = parseSync('module.js', text, { lang: 'js', sourceType: 'module', preserveParens: false });
  if (errors.some(({ severity }) => severity === 'Error')) return undefined;
  const tree = program as unknown as Program;
  const imports: Import[] = [];
  const exports: Export[] = [];
  /** Local name -> what was imported under it. */
  const imported = new Map<string, { importIndex: number; importName: string | null }>();
  for (const statement of tree.body) {
    if (statement.type === 'ImportDeclaration') {
      const importIndex = imports.push(staticImport(statement)) - 1;
      for (const specifier of statement.specifiers)
        imported.set(specifier.local.name, {
          importIndex,
          importName:
            specifier.type === 'ImportDefaultSpecifier'
              ? 'default'
              : specifier.type === 'ImportSpecifier'
                ? nameOf(specifier.imported)
                : null,
        });
    } else if ((statement.type === 'ExportNamedDeclaration' || statement.type === 'ExportAllDeclaration') && statement.source)
      imports.push(staticImport(statement as Sourced));
  }
  let source = 0;
  for (const statement of tree.body) {
    const { start: exportStart } = statement as Spanned;
    const add = (record: object) => exports.push({ exportStart, ...record } as unknown as Export);
    switch (statement.type) {
      case 'ImportDeclaration':
        source++;
        break;
      case 'ExportAllDeclaration': {
        const importIndex = source++;
        if (statement.exported) add({ type: 'reexport', name: nameOf(statement.exported), importName: null, importIndex });
        else add({ type: 'reexport-all', importIndex });
        break;
      }
      case 'ExportDefaultDeclaration': {
        const { declaration } = statement;
        const isNamed = declaration.type === 'FunctionDeclaration' || declaration.type === 'ClassDeclaration';
        const localName = isNamed ? (declaration as { id: Identifier | null }).id?.name : undefined;
        add({ type: 'direct', name: 'default', ...(localName === undefined ? {} : { localName }) });
        break;
      }
      case 'ExportNamedDeclaration': {
        const importIndex = statement.source ? source++ : -1;
        for (const { local, exported } of statement.specifiers) {
          const [name, localName] = [nameOf(exported), nameOf(local)];
          const binding = imported.get(localName);
          if (statement.source) add({ type: 'reexport', name, importName: localName, importIndex });
          else if (binding) add({ type: 'reexport', name, ...binding });
          else add({ type: 'direct', name, localName });
        }
        for (const name of declaredNames(statement.declaration)) add({ type: 'direct', name, localName: name });
      }
    }
  }
  const anywhere = importsAnywhere(tree);
  const hasSyntax = imports.length > 0 || tree.body.some(({ type }) => type.startsWith('Export')) || anywhere.hasMeta;
  return [[...imports, ...anywhere.imports], exports, false, hasSyntax] as unknown as LexerRecords;
}

type Sourced = ImportDeclaration | ExportAllDeclaration | (ExportNamedDeclaration & { source: Literal });

function staticImport(statement: Sourced): Import {
  const { start: importStart, end } = statement as Spanned<Sourced>;
  const source = statement.source as Spanned<Literal>;
  const { attributes = [] } = statement as { attributes?: Attributes };
  return {
    type: 'static',
    specifier: String(source.value),
    start: source.start + 1,
    end: source.end - 1,
    importStart,
    // Without the semicolon, as the lexer has it: the end of the specifier or of its attributes.
    importEnd: attributes.length === 0 ? source.end : end,
    attributes: attributes.length === 0 ? null : attributes.map(({ key, value }) => [nameOf(key), String(value.value)]),
    attributesStart: -1,
  } as unknown as Import;
}

function importsAnywhere(tree: Program): { imports: Import[]; hasMeta: boolean } {
  const imports: Import[] = [];
  let hasMeta = false;
  walk(tree, {
    enter(node) {
      const { start, end } = node as Spanned;
      if (node.type === 'MetaProperty' && node.meta.name === 'import') {
        hasMeta = true;
        imports.push({
          type: 'import-meta',
          specifier: null,
          start,
          end,
          importStart: start,
          importEnd: end,
        } as unknown as Import);
      }
      if (node.type !== 'ImportExpression') return;
      const source = node.source as Spanned<Expression>;
      const { options } = node as { options?: Spanned | null };
      imports.push({
        type: 'dynamic',
        ...specifierOf(source),
        start: source.start,
        end: source.end,
        importStart: start,
        importEnd: end,
        attributesStart: options?.start ?? -1,
      } as unknown as Import);
    },
  });
  return { imports: imports.sort((a, b) => a.importStart - b.importStart), hasMeta };
}

/** A literal, or a template with expressions in it, each of which stands for anything. */
function specifierOf(source: Expression): { specifier?: string; glob: boolean } {
  if (source.type === 'Literal' && typeof source.value === 'string') return { specifier: source.value, glob: false };
  if (source.type !== 'TemplateLiteral') return { glob: false };
  return {
    specifier: source.quasis.map(({ value }) => value.cooked ?? '').join('*'),
    glob: source.expressions.length > 0,
  };
}

function declaredNames(declaration: ExportNamedDeclaration['declaration']): string[] {
  if (!declaration) return [];
  if (declaration.type !== 'VariableDeclaration') return [declaration.id.name];
  return declaration.declarations.flatMap(({ id }) => namesIn(id));
}

function namesIn(pattern: Pattern): string[] {
  const names: string[] = [];
  walk(pattern as Node, {
    enter(node, parent, key) {
      if (node.type === 'MemberExpression' || (parent?.type === 'AssignmentPattern' && key === 'right')) return this.skip();
      const isKey = parent?.type === 'Property' && key === 'key' && !parent.shorthand;
      const isTwice = parent?.type === 'Property' && key === 'key' && parent.shorthand;
      if (node.type === 'Identifier' && !isKey && !isTwice) names.push(node.name);
    },
  });
  return names;
}

function nameOf(node: Identifier | Literal): string {
  return node.type === 'Identifier' ? node.name : String(node.value);
}
