import { basename, dirname } from 'node:path';
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
const writing = /^(?:mkdir|write|copyfile|cp|rename|unlink|rmdir|rm|symlink|truncate|ftruncate|utime|chmod)$/;

/** A failure of the system with a file that somebody named, as a problem; `undefined` for any other error. */
export function systemProblem(error: Error): Problem | undefined {
  const { code = '', syscall = '', path, dest } = error as NodeJS.ErrnoException & { dest?: string };
  const file = dest ?? path;
  if (reasons[code] === undefined || file === undefined) return undefined;
  // What isn't there can't have been meant to be read: whoever reads a file looks for it first, and says more.
  const isWrite = writing.test(syscall) || (syscall === 'open' && code === 'ENOENT');
  const kind: ProblemCode = isWrite ? 'output-unwritable' : 'file-unreadable';
  const hint = isWrite
    ? `Is ${dirname(file)} a folder that may be written to? Or name another place.`
    : `Look at ${basename(file)} and who may read it.`;
  return {
    code: kind,
    severity: 'error',
    message: `${file} cannot be ${isWrite ? 'written' : 'read'}: ${reasons[code]} (${code}).`,
    hint,
  };
}
