/** Types of modules that are made of a file another way than its kind says: by an import attribute, or by its URL. */
const types = ['text', 'bytes', 'json', 'css', 'url'] as const;
export type ModuleType = (typeof types)[number];

const typed = new RegExp(`^(.*)\\?(${types.join('|')})$`, 's');

/** The ids of modules that may be made of one file, beside the file's own. */
export function typedIds(file: string): string[] {
  return types.map((type) => `${file}?${type}`);
}

/** The id of a module that is made of a file in a way of its own. A file's name may hold a `?` too; only these endings count. */
export function typedId(file: string, type: string): string {
  return `${file}?${type}`;
}

/** Takes an id apart: the id of its file, and how the module is made of it where the file's kind doesn't say that. */
export function splitId(id: string): { file: string; type?: ModuleType } {
  const [, file, type] = (id.includes('?') && typed.exec(id)) || [];
  return file === undefined ? { file: id } : { file, type: type as ModuleType };
}

/** The id of the file that a module is made of. */
export function fileOfId(id: string): string {
  return splitId(id).file;
}

/** The package that a module belongs to; `undefined` for those of the application. */
export function packageOf(id: string): string | undefined {
  return /^.*node_modules\/((?:@[^/]+\/)?[^/]+)/.exec(fileOfId(id))?.[1];
}
