import type { Linked } from './linked.js';

/** As far as it's used here. */
declare const WebAssembly: {
  Module: {
    new (bytes: Uint8Array): object;
    imports(program: object): { module: string }[];
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
  const asked = [...new Set(WebAssembly.Module.imports(program).map(({ module }) => module))].map((name) => JSON.stringify(name));
  const exported = WebAssembly.Module.exports(program);
  const address = JSON.stringify(`./${encodeURIComponent(file)}`);
  return `${asked.map((name, at) => `import * as import${at} from ${name};\n`).join('')}const address = new URL(${address}, import.meta.url);
const answer = await fetch(address);
if (!answer.ok) throw new TypeError(\`\${address} answered \${answer.status}.\`);
const isNamed = answer.headers.get('content-type')?.startsWith('application/wasm');
const program = await (isNamed ? WebAssembly.compileStreaming(answer) : WebAssembly.compile(await answer.arrayBuffer()));
const instance = await WebAssembly.instantiate(program, { ${asked.map((name, at) => `[${name}]: import${at}`).join(', ')} });
${exported.map(({ name, kind }, at) => `const export${at} = instance.exports[${JSON.stringify(name)}]${kind === 'global' ? '.value' : ''};\n`).join('')}export { ${exported.map(({ name }, at) => `export${at} as ${identifier.test(name) ? name : JSON.stringify(name)}`).join(', ')} };
`;
}

/** Whether a module wants nothing of what a request leads to but its default export: the URL, where that is a file. */
export function wantsOnlyDefault({ imports, passedOn = [] }: Linked, request: number): boolean {
  const names = [
    ...imports.filter((record) => record.request === request).map(({ name }) => name),
    ...passedOn.filter((passed) => passed.request === request).map(({ imported }) => imported),
  ];
  return names.length > 0 && names.every((name) => name === 'default');
}
