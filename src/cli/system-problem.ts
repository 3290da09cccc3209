import { accessSync, constants } from 'node:fs';
import { basename, dirname, resolve } from 'node:path';
import { fileURLToPath } from 'node:url';
import type { ProblemCode } from '../core/problem/codes.js';
import type { Problem } from '../core/problem/problem.js';

/** What the system says, in words. */
const reasons: Record<string, string> = {
  ENOENT: 'there is no such file or folder',
  EACCES: 'it may not be touched by this user',
  EPERM: 'it may not be touched by this user',
  EROFS: 'the disk can only be read',
  ENOSPC: 'the disk is full',
  EDQUOT: 'the disk is full',
  ENOTDIR: 'a part of its path is no folder',
  EISDIR: 'it is a folder',
  EEXIST: 'it is there already',
  ENOTEMPTY: 'the folder is not empty',
  ENAMETOOLONG: 'its name is too long',
  ELOOP: 'links lead round in a circle',
  EMFILE: 'too many files are open',
  ENFILE: 'too many files are open',
};
const reading = new Set(['scandir', 'opendir', 'stat', 'lstat', 'realpath', 'readlink', 'access', 'read']);
const ownFolder = fileURLToPath(new URL('..', import.meta.url));

/** A failure of the system with a file that somebody named, as a problem; `undefined` for any other error, and for files of our own. */
export function systemProblem(error: Error): Problem | undefined {
  const { code = '', syscall = '', path, dest } = error as NodeJS.ErrnoException & { dest?: string };
  const file = dest ?? path;
  if (reasons[code] === undefined || file === undefined || resolve(file).startsWith(ownFolder)) return undefined;
  const isRead = reading.has(syscall) || (syscall === 'open' && isUnreadable(file));
  const kind: ProblemCode = isRead ? 'file-unreadable' : 'output-unwritable';
  const hint = isRead
    ? `Look at ${basename(file)}: what it is, and who may read it.`
    : `Is ${dirname(file)} a folder that may be written to? Or name another place.`;
  // What it was opened for isn't known.
  const verb = syscall === 'open' ? 'opened' : isRead ? 'read' : 'written';
  return { code: kind, severity: 'error', message: `${file} cannot be ${verb}: ${reasons[code]} (${code}).`, hint };
}

/** Whether a file in a folder that is there can't be read. */
function isUnreadable(file: string): boolean {
  try {
    accessSync(dirname(file), constants.R_OK);
  } catch {
    return false;
  }
  try {
    accessSync(file, constants.R_OK);
    return false;
  } catch {
    return true;
  }
}
