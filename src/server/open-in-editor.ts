import type StartEditor from 'launch-editor';
import { lazily } from '../core/lazily.js';
import type { Problem } from '../core/problem/problem.js';

const startEditor = lazily<typeof StartEditor>('launch-editor');

/** A place in a file: an absolute path, `line` and `column` counted from 1. */
export interface EditorPlace {
  file: string;
  line: number;
  column: number;
}

/** Opens a place in the editor that runs, or in the one that `EDITOR` names. */
export function openInEditor({ file, line, column }: EditorPlace, onProblem: (problem: Problem) => void): void {
  startEditor()(`${file}:${line}:${column}`, (name, message) => {
    onProblem({
      code: 'editor-missing',
      severity: 'error',
      message: `No editor could open ${name}${message ? `: ${message.trim()}` : '.'}`,
      hint: 'Set the environment variable EDITOR to the command of your editor, e.g. code.',
    });
  });
}
