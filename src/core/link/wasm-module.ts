import type { Linked } from './linked.js';

/** As far as it's used here. */
declare const WebAssembly: {
  Module: {
    new (bytes: Uint8Array): object;
    imports(program: object): { module: string; name: string }[];
    exports(program: object): { name: string; kind: string }[];
  };
};

const identifier = /^[A-Za-z_$][\w$]*$/;

/**
 * A WebAssembly module as the text of an ECMAScript module with the same imports and exports (WebAssembly/ES Module Integration): it imports
 * what the program asks for, starts it and exports what that does, globals as their values. `file` is the name of the file beside it.
 *
 * @throws WebAssembly.CompileError where the bytes are no WebAssembly.
 */
export function wasmText(bytes: Uint8Array, file: string): string {
  const program = new WebAssembly.Module(bytes);
  /** The names that it asks for, by module. */
  const asked = new Map<string, Set<string>>();
  for (const { module, name } of WebAssembly.Module.imports(program))
    asked.set(module, (asked.get(module) ?? new Set()).add(name));
  const imports: string[] = [];
  const given: string[] = [];
  for (const [module, names] of asked) {
    const locals = [...names].map((name, at) => ({ name, local: `import${imports.length}_${at}` }));
    imports.push(
      `import { ${locals.map(({ name, local }) => `${named(name)} as ${local}`).join(', ')} } from ${JSON.stringify(module)};`,
    );
    const members = locals.map(({ name, local }) => `[${JSON.stringify(name)}]: ${local}`);
    given.push(`[${JSON.stringify(module)}]: { ${members.join(', ')} }`);
  }
  const exported = WebAssembly.Module.exports(program);
  const values = exported.map(
    ({ name, kind }, at) => `const export${at} = instance.exports[${JSON.stringify(name)}]${kind === 'global' ? '.value' : ''};`,
  );
  return `${imports.join('\n')}
const address = new URL(${JSON.stringify(`./${encodeURIComponent(file)}`)}, import.meta.url);
const answer = await fetch(address);
if (!answer.ok) throw new TypeError(\`\${address} answered \${answer.status}.\`);
const isNamed = answer.headers.get('content-type')?.startsWith('application/wasm');
const program = await (isNamed ? WebAssembly.compileStreaming(answer) : WebAssembly.compile(await answer.arrayBuffer()));
const instance = await WebAssembly.instantiate(program, { ${given.join(', ')} });
${values.join('\n')}
export { ${exported.map(({ name }, at) => `export${at} as ${named(name)}`).join(', ')} };
`;
}

/** A name of an export as it stands in braces (ECMA-262, 16.2.2: ModuleExportName). */
function named(name: string): string {
  return identifier.test(name) ? name : JSON.stringify(name);
}

/** Whether an `import()` at a place of a text shows that only the default export of what it brings is taken. */
export function takesOnlyDefault(text: string, start: number, end: number): boolean {
  const [before, after] = [text.slice(Math.max(0, start - 100), start), text.slice(end, end + 100)];
  return (
    (/\(\s*await\s+$/.test(before) && /^\s*\)\s*\.\s*default\b/.test(after)) ||
    /\{\s*default\s*:\s*[\w$]+\s*\}\s*=\s*await\s+$/.test(before) ||
    /^\s*\.\s*then\(\s*\(?\s*([\w$]+)\s*\)?\s*=>\s*\1\s*\.\s*default\b/.test(after) ||
    /^\s*\.\s*then\(\s*\(\s*\{\s*default\s*:\s*[\w$]+\s*\}\s*\)\s*=>/.test(after)
  );
}

/** Whether a module wants nothing of what a request leads to but its default export: the URL, where that is a file. */
export function wantsOnlyDefault({ requests, imports, passedOn = [] }: Linked, request: number): boolean {
  if (requests[request]!.kind === 'dynamic') return requests[request]!.wantsUrl === true;
  const names = [
    ...imports.filter((record) => record.request === request).map(({ name }) => name),
    ...passedOn.filter((passed) => passed.request === request).map(({ imported }) => imported),
  ];
  return names.length > 0 && names.every((name) => name === 'default');
}
