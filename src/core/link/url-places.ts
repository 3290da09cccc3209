import type { Import } from 'es-module-lexer';
import type { Expression, Node } from 'estree';
import type { parseSync } from 'oxc-parser';
import type { Spanned } from './tree.js';

/** What reads expressions. It's loaded only where some module has such: see `makesPaths`. */
export type Parser = typeof parseSync;

/** A string that names a file, with its quotes; or what makes one, such as a template, where `*` stands for anything but a slash. */
export type UrlPlace = { start: number; end: number } & ({ kind: 'url'; specifier: string } | { kind: 'urls'; pattern: string });

/** What an expression, e.g. the first argument of `new URL`, may name; in both branches where it is a choice. */
export function urlPlaces(node: Node): UrlPlace[] {
  return choicesOf(node).flatMap((choice): UrlPlace[] => {
    const { start, end } = choice as Spanned;
    const parts = partsOf(choice);
    if (!parts.includes(undefined)) {
      const specifier = parts.join('');
      return /^(?:\.{0,2}\/|[\w@])[^'"\\:]*$/.test(specifier) ? [{ kind: 'url', start, end, specifier }] : [];
    }
    const pattern = patternOf(parts);
    return pattern !== undefined && isFilePattern(pattern) ? [{ kind: 'urls', start, end, pattern }] : [];
  });
}

/** What an `import()` may name. */
export interface ModulePlace {
  specifier: string;
  /** `*` in it stands for anything but a slash. */
  isPattern: boolean;
}

/** What the expression in an `import()` may name; `isOpen`: something else too, which does not show. */
export interface ModulesNamed {
  places: ModulePlace[];
  isOpen: boolean;
}

/** The modules that the expression in an `import()` may name. */
export function importsIn(expression: string, parser: Parser): ModulesNamed {
  return importPlaces(expressionOf(expression, parser));
}

/** The same of an expression's tree. */
export function importPlaces(node: Node | undefined): ModulesNamed {
  const choices = choicesOf(node);
  const places = choices.flatMap((choice): ModulePlace[] => {
    const parts = partsOf(choice);
    if (!parts.includes(undefined)) return [{ specifier: parts.join(''), isPattern: false }];
    const pattern = patternOf(parts);
    return pattern !== undefined && isModulePattern(pattern) ? [{ specifier: pattern, isPattern: true }] : [];
  });
  return { places, isOpen: choices.length === 0 || places.length < choices.length };
}

/** Whether a pattern says in which folder its modules are: `./berths/*.ts`, `@/pages/*\/index`. */
export function isModulePattern(pattern: string): boolean {
  return /^(?:\.{0,2}\/|[^./*:][^*:]*\/)[^*]*\*/.test(pattern);
}

/** The branches of a choice; an expression that is none by itself. */
function choicesOf(node: Node | undefined): Node[] {
  if (node?.type === 'ConditionalExpression') return [...choicesOf(node.consequent), ...choicesOf(node.alternate)];
  if (node?.type === 'LogicalExpression') return [...choicesOf(node.left), ...choicesOf(node.right)];
  return node ? [node] : [];
}

/** The files named around an `import.meta`. */
export interface UrlsNamed {
  places: UrlPlace[];
  /** A worker is started with it. */
  isWorker: boolean;
  /** It's registered as a service worker, for everything below the base. */
  isService: boolean;
}

/**
 * What `import.meta`, which stands from `start` to `end`, belongs to: the files named in `new URL('./worker.ts', import.meta.url)` or
 * `import.meta.resolve('./chart.svg')`, and what is done with that.
 */
export function urlsAround(text: string, start: number, end: number, parser: Parser | undefined): UrlsNamed | undefined {
  const head = text.slice(Math.max(0, start - 400), start);
  const tail = /^\s*\.\s*(?:url\s*[,)]|(resolve)\s*\(\s*)/.exec(text.slice(end, end + 100));
  if (!tail) return undefined;
  if (tail[1]) {
    const from = end + tail[0].length;
    return { places: argumentAt(text, from, parser), isWorker: workerHead.test(head), isService: serviceHead.test(head) };
  }
  for (const { index, 0: found, 1: started } of [...head.matchAll(urlHead)].reverse()) {
    const from = start - head.length + index + found.length;
    const expression = /^(.*?)\s*,\s*$/s.exec(text.slice(from, start))?.[1];
    const places = expression === undefined ? undefined : placesIn(expression, from, parser);
    if (places) return { places, isWorker: started !== undefined, isService: serviceHead.test(head.slice(0, index)) };
  }
  return undefined;
}

/** Whether a module may name files or modules by expressions that are more than a string, which a parser has to read. */
export function makesPaths(text: string, imports: readonly Import[]): boolean {
  const isMade = (record: Import) =>
    record.type === 'dynamic' && record.specifier === undefined && /['"`]/.test(text.slice(record.start, record.end));
  if (imports.some(isMade)) return true;
  return /\bimport\s*\.\s*meta\b/.test(text) && (madeUrl.test(text) || madeResolve.test(text));
}

const madeUrl = /\bnew\s+URL\s*\(\s*(?!\s)(?!(?:'[^'\\\n]*'|"[^"\\\n]*")\s*[,)])/;
const madeResolve = /\bmeta\s*\.\s*resolve\s*\(\s*(?!\s)(?!(?:'[^'\\\n]*'|"[^"\\\n]*")\s*[,)])/;

const workerStart = String.raw`new\s+(?:(?:self|window|globalThis)\s*\.\s*)?(?:Shared)?Worker\s*\(\s*(?:\/\*[^*]*\*\/\s*)?`;
const workerHead = new RegExp(`${workerStart}$`);
const serviceHead = /\bserviceWorker\s*\??\.\s*register\s*(?:\?\.\s*)?\(\s*$/;
const urlHead = new RegExp(String.raw`(${workerStart})?new\s+URL\s*\(\s*`, 'g');

/** The only argument of a call, which begins at a place. */
function argumentAt(text: string, from: number, parser: Parser | undefined): UrlPlace[] {
  const behind = text.slice(from, from + 400);
  for (const { index } of behind.matchAll(/\s*,?\s*\)/g)) {
    const places = placesIn(behind.slice(0, index), from, parser);
    if (places) return places;
  }
  return [];
}

/** `undefined` where a text is no expression. */
function placesIn(expression: string, from: number, parser: Parser | undefined): UrlPlace[] | undefined {
  if (/^(['"])(?:\.{0,2}\/|[\w@])[^'"\\:\n\r]*\1$/.test(expression))
    return [{ kind: 'url', start: from, end: from + expression.length, specifier: expression.slice(1, -1) }];
  if (!parser) return undefined;
  const node = expressionOf(expression, parser);
  return node && urlPlaces(node).map((place) => ({ ...place, start: place.start - 1 + from, end: place.end - 1 + from }));
}

/** An expression's tree, with offsets of one more; `undefined` where a text is no expression. */
function expressionOf(expression: string, parser: Parser): Node | undefined {
  const { program, errors } = parser('expression.js', `(${expression}\n)`, { sourceType: 'module', preserveParens: false });
  const [statement, ...others] = program.body;
  return errors.length > 0 || others.length > 0 || statement?.type !== 'ExpressionStatement'
    ? undefined
    : (statement.expression as Node);
}

/** `./flags/*.svg` for `` `./flags/${code}.svg` `` and for `'./flags/' + code + '.svg'`. */
function patternOf(parts: readonly (string | undefined)[]): string | undefined {
  if (parts.some((part) => part?.includes('*'))) return undefined;
  return parts
    .map((part) => part ?? '*')
    .join('')
    .replace(/\*+/g, '*');
}

/** Whether a pattern doesn't stand for anything: a path has to begin it, and a folder or an ending to say more. */
function isFilePattern(pattern: string): boolean {
  if (!/^\.{1,2}\/[^?#\\:]*$/.test(pattern)) return false;
  const says = pattern.replace(/^(?:\.{1,2}\/)+/, '');
  return /^[^*]+\//.test(says) || /\*[^*/]*\.\w+$/.test(says);
}

/** The strings that an expression joins; `undefined` for what is known at run time only. */
function partsOf(node: Node): (string | undefined)[] {
  if (node.type === 'Literal') return [typeof node.value === 'string' ? node.value : undefined];
  if (node.type === 'TemplateLiteral')
    return node.quasis.flatMap(({ value }, place) => {
      const inner: Expression | undefined = node.expressions[place];
      return inner ? [value.cooked ?? undefined, ...partsOf(inner)] : [value.cooked ?? undefined];
    });
  if (node.type === 'BinaryExpression' && node.operator === '+') return [...partsOf(node.left), ...partsOf(node.right)];
  return [undefined];
}

/** Whether a path is one of those that a pattern stands for. */
export function matchesPattern(pattern: string, path: string): boolean {
  const parts = pattern.split('*').map((part) => part.replace(/[.+?^${}()|[\]\\]/g, '\\$&'));
  return new RegExp(`^${parts.join('[^/]*')}$`).test(path);
}
