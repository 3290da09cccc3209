import { parse } from 'es-module-lexer';
import { intern } from '../text/intern.js';
import { countLineEnds } from '../text/line-index.js';
import { gap } from '../text/walks.js';
import { applyEdits, type Edit } from './edits.js';
import { foldTextually } from './fold-in-text.js';
import type { Found, Linked, LinkInput, ModuleRequest } from './linked.js';

/**
 * Links a CommonJS module: the text stays as it is inside a function that is given `module`, `exports` and `require`.
 * Constants are folded, and a `require` in a branch that can't run is not a request. `isThorough`: with `isCertain` of the
 * requests, for which a syntax tree is always made.
 */
export async function linkCommonJs(input: LinkInput, isThorough = false): Promise<Linked> {
  const { text, handle } = input;
  const found = (isThorough ? undefined : scan(input)) ?? (await import('./commonjs-analysis.js')).analyseCommonJs(input);
  const applied = applyEdits(text, found.edits);
  const global = /\bglobal\b/.test(text) && !/\b(?:let|const|class)\s+global\b/.test(text) ? ', global' : '';
  const code = `function (${handle}, module, exports, require${global}) {\n${applied.text}\n}`;
  return {
    format: 'commonjs',
    code,
    lineEnds: countLineEnds(code),
    shifts: applied.shifts,
    requests: found.requests,
    imports: [],
    stars: [],
    importWrites: [],
    hasBindings: false,
    isEarly: false,
    ...(found.isScanned ? { isScanned: true } : {}),
  };
}

/**
 * Constants and requests without a syntax tree, where no `require` can stand in a branch that a constant or a known type
 * rules out; `undefined` where that is open. In long files tests of types don't count: what they rule out stays a request.
 */
function scan({ text, constants, handle }: LinkInput): Found | undefined {
  const folds = foldTextually(text, constants);
  if (!folds) return undefined;
  const edits = [...folds];
  const choices = new Map(folds.map((fold) => [fold, choiceAt(text, fold)]));
  const isDead = (at: number) =>
    [...choices.values()].some((choice) => choice?.dead && at >= choice.dead[0] && at < choice.dead[1]);
  const requests = new Map<string, ModuleRequest>();
  if (!/\b(?:require|import)\b/.test(text)) return { edits, requests: [], isScanned: true };
  const calls = new Set<number>();
  const replaced = text.replace(/(?<![\w$#\u0080-\uffff]|(?<!\.\.)\.)require(?=\s*\()/g, (_, start: number) => {
    calls.add(start);
    return ' import';
  });
  // The lexer takes a call behind dots for one of a method.
  const lexed = replaced.replace(spreadImport, '   ');
  // What is passed on or declared under that name may be another function.
  if (/(?<!\btypeof |["'])\brequire\b(?!["']|\s+[\w$])/.test(replaced)) return undefined;
  let last = -1;
  try {
    for (const record of parse(lexed)[0]) {
      if (record.type !== 'dynamic' || isDead(record.start)) continue;
      const isRequire = calls.has(record.importStart - 1);
      // What an expression may name shows in a tree.
      if (record.glob || (record.specifier === undefined && (!isRequire || /['"`]/.test(text.slice(record.start, record.end)))))
        return undefined;
      if (!isRequire) edits.push({ start: record.importStart, end: record.importStart + 6, text: `${handle}.get` });
      else last = Math.max(last, record.importStart);
      if (record.specifier === undefined) continue;
      const kind = isRequire ? 'require' : 'dynamic';
      const key = `${kind}\0${record.specifier}`;
      if (!requests.has(key))
        requests.set(key, { kind, specifier: intern(record.specifier), start: record.start, end: record.end });
    }
  } catch {
    return undefined; // the lexer takes it for no JavaScript, which the parser may know better
  }
  const mayRuleOut = folds.some((fold) => fold.start < last && !choices.get(fold) && !isHarmless(text, fold));
  const firstTest = text.length < longText && last !== -1 ? text.search(knownTest) : -1;
  return mayRuleOut || (firstTest !== -1 && firstTest < last)
    ? undefined
    : { edits, requests: [...requests.values()], isScanned: true };
}

/** A test whose outcome `evaluate` may know, constants aside. */
const knownTest =
  /\btypeof\s+(?:window|document|self|process|define)\b|\bif\s*\(\s*!*(?:true|false|\d)|\b(?:true|false|\d)\s*(?:&&|\|\||\?)/;

/** Files as long as this take longer to parse than a module that need not be there takes. */
const longText = 100_000;

/**
 * What a constant decides in `if (<constant> === 'a') { … } else { … }` with plain blocks, in which packages choose between
 * their builds: the offsets of the block that can't run, if there is one. `undefined` where it's something else.
 */
function choiceAt(text: string, { start, end, text: value }: Edit): { dead?: [start: number, end: number] } | undefined {
  if (!/\bif\s*\(\s*$/.test(text.slice(Math.max(0, start - 20), start))) return undefined;
  choice.lastIndex = end;
  const found = choice.exec(text);
  if (!found) return undefined;
  const [whole, operator, , compared, first, second] = found;
  const holds = (JSON.stringify(compared) === value.trimEnd()) === (operator === '=');
  const firstStart = end + whole.indexOf('{') + 1;
  if (!holds) return { dead: [firstStart, firstStart + first!.length] };
  return second === undefined ? {} : { dead: [end + whole.length - 1 - second.length, end + whole.length - 1] };
}

const spreadImport = new RegExp(String.raw`\.\.\.(?=${gap}*import\b)`, 'g');

const choice = /\s*([!=])==?\s*(["'])([\w-]*)\2\s*\)\s*\{([^{}]*)\}(?:\s*else\s*\{([^{}]*)\}|(?!\s*(?:else\b|\/)))/y;

/** Whether a constant stands in a comparison that holds, with `&&` behind it: nothing is ruled out there. */
function isHarmless(text: string, { start, end, text: value }: Edit): boolean {
  const before = /(["'])([\w-]*)\1\s*([!=])==?\s*$/.exec(text.slice(Math.max(0, start - 60), start));
  const after = /^\s*(?:([!=])==?\s*(["'])([\w-]*)\2\s*)?(&&)?/.exec(text.slice(end, end + 80))!;
  const compared = before?.[2] ?? after[3];
  const operator = before?.[3] ?? after[1];
  if (compared === undefined || after[4] === undefined || (before && after[1])) return false;
  return (JSON.stringify(compared) === value.trimEnd()) === (operator === '=');
}
