/** The file system as the core sees it: absolute paths, nothing asynchronous, nothing thrown for what is missing. */
export interface Files {
  /** What is at `path`, links followed. */
  kindOf(path: string): 'file' | 'folder' | undefined;
  /** The text of a file, `undefined` where there is none. */
  readText(path: string): string | undefined;
  /** Names in a folder, none where there is no folder. */
  list(folder: string): string[];
  /** The path with every link resolved. */
  realPath(path: string): string;
}
