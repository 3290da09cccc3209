import type { Program } from 'estree';
import { parseSync } from 'oxc-parser';
import { topLevelAwaits } from '../core/bundle/syntax.js';
import { declaredIn, hoistedNames } from '../core/link/declared-names.js';
import type { Spanned } from '../core/link/tree.js';
import { type MappedText, type Replacement, replaced } from './mapped.js';

/** The names that a module's text declares at its top. */
export function topLevelNames(text: string): string[] {
  const names = new Set<string>();
  for (const statement of parsed(text).body) {
    if (statement.type === 'FunctionDeclaration' || statement.type === 'ClassDeclaration') names.add(statement.id.name);
    else if (statement.type === 'VariableDeclaration')
      for (const { id } of statement.declarations) for (const name of declaredIn(id)) names.add(name);
    else for (const name of hoistedNames(statement)) names.add(name);
  }
  return [...names];
}

/** The same text without what it exports. Other statements may stand behind that. */
export function withoutExports(mapped: MappedText): MappedText {
  const exported = parsed(mapped.text).body.filter(({ type }) => type === 'ExportNamedDeclaration') as unknown as Spanned[];
  return replaced(
    mapped,
    exported.map(({ start, end }) => ({ start, end, text: '' })),
  );
}

/** The same text for a generator function, which gives what a top-level `await` waits for to whoever runs it. */
export function inSteps(mapped: MappedText): MappedText {
  const edits: Replacement[] = topLevelAwaits(parsed(mapped.text)).flatMap(({ start, end }) => [
    { start, end: start + 'await'.length, text: '(yield ' },
    { start: end, end, text: ')' },
  ]);
  return replaced(
    mapped,
    edits.sort((a, b) => a.start - b.start || a.end - b.end),
  );
}

function parsed(text: string): Program {
  const { program } = parseSync('module.js', text, { lang: 'js', sourceType: 'module', range: true, preserveParens: false });
  return program as unknown as Program;
}
