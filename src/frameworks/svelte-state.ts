import { parseSync } from 'oxc-parser';
import { applyEdits, type Edit } from '../core/link/edits.js';
import { movedMappings } from '../core/maps/complete-mappings.js';
import type { RawMap } from '../core/maps/raw-map.js';
import { lineFeedStarts } from '../core/text/line-index.js';
import { elementsIn } from '../core/text/walks.js';

/** A compiled component that hands its state on to its next version. */
export interface KeptComponent {
  code: string;
  map: RawMap;
  /** When its module runs again, nothing of the module's own variables is lost. */
  holdsNoState: boolean;
}

export interface KeepOptions {
  /** The compiler's map. */
  map: RawMap;
  /** The component as it was compiled. */
  source: string;
  name: string;
  /** Of the module: another component may have the same name. */
  id: string;
  hash(text: string): string;
}

/** A node of the syntax tree (ESTree), as far as it's looked at here. */
interface Node {
  type: string;
  start: number;
  end: number;
  [key: string]: unknown;
}

/**
 * Lets a component that Svelte 5 has compiled for development keep its state across updates: what the script declares is taken
 * over from the instance in whose place the new one stands, as long as the script itself is the same. What the compiler says
 * of hot updates speaks to `import.meta.live` then.
 */
export function keepState(code: string, { map, source, name, id, hash }: KeepOptions): KeptComponent | undefined {
  const { program, errors } = parseSync('component.js', code, { sourceType: 'module' });
  if (errors.length > 0) return undefined;
  const body = program.body as unknown as Node[];
  const exportStatement = body.find(({ type }) => type === 'ExportDefaultDeclaration');
  const exported = exportStatement?.declaration as Node | undefined;
  const component = body.find(({ type, id }) => type === 'FunctionDeclaration' && (id as Node)?.name === (exported?.name ?? ''));
  const hot = body.find(({ type, start }) => type === 'IfStatement' && code.startsWith('if (import.meta.', start));
  const statements = (component?.body as Node | undefined)?.body as Node[] | undefined;
  const push = statements?.find((node) => code.slice(node.start, node.end).startsWith('$.push('));
  // Without knowing where its instances begin, nothing can be said of their state: whoever imports it runs again.
  if (!component || !statements || !hot || !push) return undefined;
  const [moduleScript, instanceScript] = scriptsOf(source);
  const edits: Edit[] = [];
  // Exports beside the component: whoever imports them runs again.
  const isOnly = !body.some(({ type }) => /^Export(?:Named|All)Declaration$/.test(type));
  const moduleState = body.filter((node) => node.type === 'VariableDeclaration' && !isMade(node, code));
  if (moduleState.length > 0) {
    for (const declaration of moduleState) keep(edits, code, declaration, '$$module');
    const script = JSON.stringify(hash(moduleScript));
    edits.push(inserted(moduleState[0]!.start, `const $$module = $$kept.ofModule(import.meta.live, ${script}); `));
  }
  const about = JSON.stringify({ id, name, script: hash(instanceScript) });
  edits.push(inserted(push.end, ` const $$own = $$kept.begin($$props, ${about});`));
  for (const node of statements) if (node.type === 'VariableDeclaration') keep(edits, code, node, '$$own');
  const own = (component.id as Node).name as string;
  const take = /import\.meta\.\w+\.accept\(\((\w+)\) => (\{[\s\S]*\})\);\s*\}$/.exec(code.slice(hot.start, hot.end));
  if (isOnly && take && exportStatement) {
    // Whoever has the first version keeps it, and it shows the newest. What is exported is never assigned: that costs less.
    const head = code.slice(hot.start, hot.start + take.index).replace(/^if \(import\.meta\.\w+\)/, 'if (import.meta.live)');
    const given = `(${own}, ${take[1]}) => ${take[2]}`;
    const shown = `const $$shown = import.meta.live ? $$kept.wrapped(import.meta.live, ${own}, ${given}) : ${own};`;
    edits.push(replaced(code, hot, `${head}import.meta.live.take(); } ${shown}`));
    edits.push(replaced(code, exportStatement, 'export { $$shown as default };'));
  } else edits.push(replaced(code, hot, ''));
  edits.push(inserted(code.length, `\nimport * as $$kept from 'adapter:state.js';\n`));
  const { text, shifts } = applyEdits(code, edits, lineFeedStarts);
  return {
    code: text,
    map: { ...map, mappings: movedMappings(map.mappings, shifts) },
    holdsNoState: isOnly && moduleState.length === 0,
  };
}

/** What `<script module>` and `<script>` hold. */
function scriptsOf(source: string): [module: string, instance: string] {
  let [module, instance] = ['', ''];
  for (const { attributes, content } of elementsIn(source, 'script')) {
    if (/\bmodule\b/.test(attributes)) module += content;
    else instance += content;
  }
  return [module, instance];
}

/** Whether a declaration at the top of a module is the compiler's own. */
function isMade({ declarations }: Node, code: string): boolean {
  const [first] = declarations as Node[];
  const init = first?.init as Node | null | undefined;
  return init === null || init === undefined || (isCall(init, code) && !isState(init, code)) || isFunction(init);
}

function isFunction({ type }: Node): boolean {
  return /^(?:ArrowFunction|Function|Class)Expression$/.test(type);
}

/** A call of the framework's runtime. */
function isCall(node: Node, code: string): boolean {
  return node.type === 'CallExpression' && code.startsWith('$.', node.start);
}

/** A signal or a proxy that holds state of the script's. */
function isState(node: Node, code: string): boolean {
  return /^\$\.(?:tag\(\s*\$\.(?:state|mutable_source)\(|tag_proxy\(|state\(|proxy\()/.test(code.slice(node.start, node.end));
}

function inserted(at: number, text: string): Edit {
  return { start: at, end: at, text };
}

/** Puts a text, which has no more lines, in place of a node: what follows stays on its lines. */
function replaced(code: string, { start, end }: Node, text: string): Edit {
  const lineEnds = (of: string) => of.split('\n').length - 1;
  return { start, end, text: text + '\n'.repeat(lineEnds(code.slice(start, end)) - lineEnds(text)) };
}

/** Wraps the values of a declaration so that they are taken over from the instance before. */
function keep(edits: Edit[], code: string, declaration: Node, owner: string): void {
  for (const { id, init } of declaration.declarations as { id: Node; init: Node | null }[]) {
    if (!init || isFunction(init)) continue;
    // Of what is taken apart, the whole is looked at.
    const isWhole = id.type !== 'Identifier';
    const name = isWhole ? code.slice(id.start, id.end) : (id.name as string);
    if (name.startsWith('$$')) continue;
    const wrap = (method: string, rest = '') => {
      edits.push(inserted(init.start, `${owner}.${method}(${JSON.stringify(name)}, () => (`), inserted(init.end, `)${rest})`));
    };
    if (!isWhole && isState(init, code)) wrap('signal');
    else if (isCall(init, code) || (declaration.kind === 'var' && owner === '$$own')) continue;
    // What began as a value that stands there can be carried over, whatever has become of it; of anything else, which may come
    // from modules that have changed, it's seen whether it's another one.
    else if (isWhole) wrap('whole');
    else if (init.type !== 'Literal') wrap('seen', `, () => ${name}`);
    else if (declaration.kind !== 'const') wrap('plain', `, () => ${name}`);
  }
}
