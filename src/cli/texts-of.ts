import { readFileSync, statSync } from 'node:fs';

/** Tells what files hold, absent ones too, from what they may hold later. */
export function textsOf(files: readonly string[]): string {
  // Reading a pipe would wait for whoever writes into it.
  const textOf = (file: string) =>
    statSync(file, { throwIfNoEntry: false })?.isFile() ? readFileSync(file, 'latin1') : undefined;
  return JSON.stringify(files.map((file) => [file, textOf(file)]));
}
