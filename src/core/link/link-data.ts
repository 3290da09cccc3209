import { withoutMark } from '../text/json.js';
import { countLineEnds } from '../text/line-index.js';
import type { Linked } from './linked.js';

const identifier =
  /^(?!(?:default|await|break|case|catch|class|const|continue|debugger|delete|do|else|enum|export|extends|false|finally|for|function|if|implements|import|in|instanceof|interface|let|new|null|package|private|protected|public|return|static|super|switch|this|throw|true|try|typeof|var|void|while|with|yield|arguments|eval)$)[A-Za-z_$][\w$]*$/;

/**
 * Links JSON as a module: the value is the default export, and each member whose key can be an identifier a named one, but not
 * where it's imported as JSON modules are (`isTyped`), which have nothing but a default export.
 *
 * @throws SyntaxError where the text is no JSON (RFC 8259).
 */
export function linkJson(written: string, isTyped = false): Linked {
  const text = withoutMark(written);
  const value: unknown = JSON.parse(text);
  const isObject = typeof value === 'object' && value !== null && !Array.isArray(value);
  const names = isObject && !isTyped ? Object.keys(value).filter((key) => identifier.test(key)) : [];
  const getters = ['default: () => my_d', ...names.map((name) => `${name}: () => my_d.${name}`)];
  // A JSON text may be a JavaScript expression only through parsing: `__proto__` means something else there.
  const body = text.includes('__proto__') ? `const my_d = JSON.parse(${JSON.stringify(text)})` : `const my_d =\n${text}`;
  return dataModule(getters, body, ['default', ...names]);
}

/** Links a file that a module uses by its URL, which the runtime knows. */
export function linkUrl(): Linked {
  return dataModule(['default: () => my_d'], 'const my_d = my.url', ['default']);
}

/** Links a style sheet that a module imports: the page holds the sheet, the module only has the names of a CSS module. */
export function linkStyle(exports: Readonly<Record<string, string>> | undefined): Linked {
  return exports ? linkJson(JSON.stringify(exports)) : dataModule([], '', []);
}

/** Links a file whose text is the default export. */
export function linkText(text: string): Linked {
  return dataModule(['default: () => my_d'], `const my_d = ${JSON.stringify(text)}`, ['default']);
}

/** Links a file whose bytes, as a Uint8Array, are the default export. */
export function linkBytes(base64: string): Linked {
  return dataModule(['default: () => my_d'], `const my_d = Uint8Array.from(atob("${base64}"), (byte) => byte.charCodeAt(0))`, [
    'default',
  ]);
}

/** Links a style sheet whose default export is a constructed sheet, which stays the same object across updates. */
export function linkConstructedSheet(css: string): Linked {
  const body = `const my_d = my.meta.live.state.sheet ??= new CSSStyleSheet(); my_d.replaceSync(${JSON.stringify(css)}); my.meta.live.take();`;
  return dataModule(['default: () => my_d'], body, ['default']);
}

function dataModule(getters: string[], body: string, exports: string[]): Linked {
  const code = `function* (my) { "use strict"; my.exports({ ${getters.join(', ')} }); yield; ${body}\n}`;
  return {
    format: 'module',
    code,
    lineEnds: countLineEnds(code),
    shifts: [],
    requests: [],
    imports: [],
    exports,
    stars: [],
    importWrites: [],
    hasBindings: false,
    isEarly: false,
  };
}

/** Data as the text of a module, for builds: `css` becomes a constructed sheet, `bytes` come as base64. */
export function dataText(type: 'css' | 'text' | 'bytes', content: string): string {
  const text = JSON.stringify(content);
  if (type === 'text') return `export default ${text};\n`;
  if (type === 'bytes') return `export default /* @__PURE__ */ Uint8Array.from(atob(${text}), (byte) => byte.charCodeAt(0));\n`;
  return `const sheet = new CSSStyleSheet();\nsheet.replaceSync(${text});\nexport default sheet;\n`;
}

/** JSON as the text of a module, each member a variable of its own, so that those which nobody reads can be left out. */
export function jsonText(written: string, isTyped = false): string {
  const text = withoutMark(written);
  const value: unknown = JSON.parse(text);
  const isObject = typeof value === 'object' && value !== null && !Array.isArray(value);
  // Written out again, some values would be others.
  const isOdd = text.includes('__proto__') || /-0|[eE][+\d]\d\d/.test(text);
  const names = isObject && !isTyped ? Object.keys(value).filter((key) => identifier.test(key)) : [];
  if (isOdd) {
    const members = names.map((name) => `export const ${name} = my_json.${name};\n`).join('');
    return `const my_json = /* @__PURE__ */ JSON.parse(${JSON.stringify(text)});\n${members}export default my_json;\n`;
  }
  if (names.length === 0) return `export default ${JSON.stringify(value)};\n`;
  const entries = Object.entries(value as object);
  const named = new Set(names);
  const own = entries
    .filter(([key]) => named.has(key))
    .map(([key, member]) => `export const ${key} = ${JSON.stringify(member)};\n`);
  const all = entries.map(([key, member]) => (named.has(key) ? key : `${JSON.stringify(key)}: ${JSON.stringify(member)}`));
  return `${own.join('')}export default { ${all.join(', ')} };\n`;
}
