import type { ImportRecord, Linked } from '../link/linked.js';

/** What checking an import needs to know of the modules around. */
export interface ImportCheck {
  linked(id: string): Linked | undefined;
  /** The module behind the n-th request of `id`. */
  target(id: string, request: number): string | undefined;
}

/** The imported names of `id` that the other module certainly doesn't export, each with the names it does. */
export function missingExports(id: string, check: ImportCheck): { record: ImportRecord; from: string; known: string[] }[] {
  const missing: { record: ImportRecord; from: string; known: string[] }[] = [];
  for (const record of check.linked(id)?.imports ?? []) {
    const from = check.target(id, record.request);
    if (from === undefined || mayExport(from, record.name, check, new Set())) continue;
    missing.push({ record, from, known: [...exportedNames(from, check, new Set())] });
  }
  return missing;
}

/** Whether a module exports a name, or may do so for all that can be known before it runs. */
function mayExport(id: string, name: string, check: ImportCheck, seen: Set<string>): boolean {
  const linked = check.linked(id);
  if (!linked || linked.format === 'commonjs' || linked.exports?.includes(name)) return true;
  if (seen.has(id) || name === 'default') return false;
  seen.add(id);
  return linked.stars.some((request) => {
    const target = check.target(id, request);
    return target === undefined || mayExport(target, name, check, seen);
  });
}

function exportedNames(id: string, check: ImportCheck, seen: Set<string>): Set<string> {
  const linked = check.linked(id);
  const names = new Set(linked?.exports);
  if (!linked || seen.has(id)) return names;
  seen.add(id);
  for (const request of linked.stars) {
    const target = check.target(id, request);
    if (target !== undefined) for (const name of exportedNames(target, check, seen)) names.add(name);
  }
  return names;
}
