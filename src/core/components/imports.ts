import { parseSync } from 'oxc-parser';
import { elementsIn, without } from '../text/walks.js';
import { refuseTooDeep } from '../translate/nesting.js';
import { scriptOf } from './props.js';

/** An import of a source. */
export interface Import {
  specifier: string;
  /** What is imported by name; `default` and `*` too. */
  names: string[];
  isType: boolean;
}

/** What a source asks for: a script, a component file, a sheet, or a page, by the file's extension. */
export function importsOf(path: string, text: string): Import[] {
  if (/\.(?:css|scss|sass)$/.test(path)) return styleImports(text);
  if (path.endsWith('.json')) return [];
  if (path.endsWith('.html')) return pageImports(text);
  const { text: script, lang, framework } = scriptOf(text, path);
  refuseTooDeep(path, script);
  const { module } = parseSync(`module.${lang}`, script, { lang: lang as 'tsx', sourceType: 'module' });
  const imports: Import[] = module.staticImports.map(({ moduleRequest, entries }) => ({
    specifier: moduleRequest.value,
    names: entries
      .filter(({ isType }) => !isType)
      .map(({ importName }) => (importName.kind === 'Name' ? importName.name! : importName.kind === 'Default' ? 'default' : '*')),
    isType: entries.length > 0 && entries.every(({ isType }) => isType),
  }));
  for (const { entries } of module.staticExports)
    for (const { moduleRequest, importName, isType } of entries)
      if (moduleRequest)
        imports.push({ specifier: moduleRequest.value, names: importName.name ? [importName.name] : ['*'], isType });
  for (const { moduleRequest } of module.dynamicImports) {
    const literal = /^(['"`])([^'"`$]+)\1$/.exec(script.slice(moduleRequest.start, moduleRequest.end));
    if (literal) imports.push({ specifier: literal[2]!, names: ['default'], isType: false });
  }
  for (const [, , specifier] of script.matchAll(/new URL\(\s*(['"])(\.[^'"]+)\1\s*,\s*import\.meta\.url/g))
    imports.push({ specifier: specifier!, names: [], isType: false });
  for (const [, , specifier] of script.matchAll(/\brequire\(\s*(['"])([^'"]+)\1\s*\)/g))
    imports.push({ specifier: specifier!, names: ['*'], isType: false });
  if (framework) {
    for (const { content } of elementsIn(text, 'style')) imports.push(...styleImports(content));
    for (const [, , specifier] of text.matchAll(/\s(?:src|poster)=(["'])(\.{1,2}\/[^"'{]+)\1/g))
      imports.push({ specifier: specifier!, names: [], isType: false });
  }
  return imports;
}

function styleImports(text: string): Import[] {
  const plain = without(text, '/*', '*/');
  const imports: Import[] = [];
  for (const [, , specifier] of plain.matchAll(/@(?:import|use|forward|reference)\s+(?:url\(\s*)?(["'])([^"']+)\1/g)) {
    if (/^(?:https?:|sass:)/.test(specifier!)) continue;
    const isPackage =
      /^(?:tailwindcss|@[^/]+\/[^/]+|[a-z][\w-]*\/[\w./-]+\.(?:css|scss))/.test(specifier!) && !specifier!.startsWith('.');
    imports.push({
      specifier: isPackage || specifier!.startsWith('.') ? specifier! : `./${specifier}`,
      names: [],
      isType: false,
    });
  }
  for (const [, , specifier] of plain.matchAll(/url\(\s*(["']?)([^"')]{1,4000})\1\s*\)/g))
    if (!/^(?:[a-z]+:|\/|#|~)/i.test(specifier!))
      imports.push({ specifier: specifier!.startsWith('.') ? specifier! : `./${specifier}`, names: [], isType: false });
  return imports;
}

function pageImports(text: string): Import[] {
  const plain = without(text, '<!--', '-->');
  const imports: Import[] = [];
  for (const [, , specifier] of plain.matchAll(/\s(?:src|href|poster)=(["'])([^"'#]+)\1/g))
    if (!/^(?:[a-z]+:|\/\/|\/|#|\?)/i.test(specifier!))
      imports.push({ specifier: specifier!.startsWith('.') ? specifier! : `./${specifier}`, names: [], isType: false });
  for (const { attributes, content } of elementsIn(plain, 'script'))
    if (/type=["']module["']/.test(attributes) && !/\bsrc=/.test(attributes)) imports.push(...importsOf('/inline.ts', content));
  for (const { content } of elementsIn(plain, 'style')) imports.push(...styleImports(content));
  return imports;
}
