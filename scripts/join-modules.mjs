import { init, parse } from 'es-module-lexer';

/**
 * The texts of modules that share one scope when they're put one behind another: without imports and exports, dependencies first.
 * @param {string} entry path of the first module
 * @param {object} options
 * @param {(file: string) => string} options.textOf a module's text as JavaScript
 * @param {(file: string, specifier: string) => string | undefined} options.targetOf the file behind an import; none for what comes from elsewhere
 * @returns {Promise<{ file: string, text: string }[]>}
 */
export async function joinModules(entry, { textOf, targetOf }) {
  await init();
  const seen = new Set();
  const parts = [];
  const visit = (file) => {
    if (seen.has(file)) return;
    seen.add(file);
    let text = textOf(file);
    const [imports, exports] = parse(text);
    const cut = exports.map(({ exportStart }) => [exportStart, exportStart + 'export'.length]);
    for (const { type, specifier, importStart, importEnd } of imports) {
      if (type !== 'static') continue;
      const target = targetOf(file, specifier);
      if (target !== undefined) visit(target);
      cut.push([importStart, importEnd]);
    }
    for (const [start, end] of cut.sort((a, b) => b[0] - a[0])) text = text.slice(0, start) + text.slice(end);
    parts.push({ file, text });
  };
  visit(entry);
  return parts;
}
