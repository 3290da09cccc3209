/** Types of modules that are made of a file another way than its kind says: by an import attribute, by its URL, or as a running program. */
const types = ['text', 'bytes', 'json', 'css', 'url', 'instance'] as const;
export type ModuleType = (typeof types)[number];

/** What the name of a part of a file begins with in its id. */
const partPrefix = 'part.';

const typed = new RegExp(`^(.*)\\?(?:(${types.join('|')})|${partPrefix}([\\w.-]+))$`, 's');

/** The ids of modules that may be made of one file, beside the file's own. */
export function typedIds(file: string): string[] {
  return types.map((type) => `${file}?${type}`);
}

/** The id of a module that is made of a file in a way of its own. A file's name may hold a `?` too; only these endings count. */
export function typedId(file: string, type: string): string {
  return `${file}?${type}`;
}

/** Takes an id apart: the id of its file, and how the module is made of it where the file's kind doesn't say that. */
export function splitId(id: string): { file: string; type?: ModuleType; part?: string } {
  const [, file, type, part] = (id.includes('?') && typed.exec(id)) || [];
  if (file === undefined) return { file: id };
  return part === undefined ? { file, type: type as ModuleType } : { file, part };
}

/** The id of a part of a file, e.g. of a component's style sheet: a module of its own, whose kind is that of its name's extension. */
export function partId(file: string, part: string): string {
  return `${file}?${partPrefix}${part}`;
}

/** The id to show for a module: parts of files, and programs that are started, are nothing that a user knows. */
export function fileOfPart(id: string): string {
  const { file, part, type } = splitId(id);
  return part === undefined && type !== 'instance' ? id : file;
}

/** The ids to show for modules, each once. */
export function shownIds(ids: Iterable<string>): string[] {
  return [...new Set([...ids].map(fileOfPart))];
}

/** The id of the file that a module is made of. */
export function fileOfId(id: string): string {
  return splitId(id).file;
}

/** The package that a module belongs to; `undefined` for those of the application. */
export function packageOf(id: string): string | undefined {
  return /^.*node_modules\/((?:@[^/]+\/)?[^/]+)/.exec(fileOfId(id))?.[1];
}
