import { Script } from 'node:vm';

/** Whether a JavaScript engine takes `code` for an expression. Nothing is run. The engine may be older than the browsers. */
export function isExpression(code: string): boolean {
  try {
    new Script(`(${code}\n)`);
    return true;
  } catch {
    return false; // why, the parser tells
  }
}

/**
 * Whether a module's body, its imports and exports taken away, is the same in a function: no `await` and no `arguments` stand
 * at its top. Both are errors in a static block (ECMA-262, 15.7.1), and nothing else that a module may hold is.
 */
export function isPlainBody(body: string): boolean {
  return isExpression(`class{static{${body}\n}}`);
}

/** Signs of what a static block lets through: `super` by the standard, numbers and escapes of older scripts by some engines. */
export const letThrough = /\bsuper\b|\b0\d|\\\d/;

/** The same for the linked form of a module, with the variables for its imports: a `return` of its own would be one of the function. */
export function isModuleBody(code: string): boolean {
  const start = code.indexOf('\n');
  const [declared = ''] = / let [^;]*;/.exec(code.slice(0, start)) ?? [];
  return isPlainBody(declared + code.slice(start, code.lastIndexOf('}')));
}

/** The line, counted from 1, at which an engine stops taking `code` for an expression; `undefined` where it does take it. */
export function refusedLine(code: string): number | undefined {
  try {
    new Script(`(${code}\n)`, { filename: 'module' });
    return undefined;
  } catch (error) {
    const line = /^module:(\d+)/.exec(error instanceof Error ? (error.stack ?? '') : '')?.[1];
    return line === undefined ? undefined : Number(line);
  }
}
