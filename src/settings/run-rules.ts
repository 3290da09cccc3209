import { basename, extname, resolve } from 'node:path';
import type ShellQuote from 'shell-quote';
import { lazily } from '../core/lazily.js';
import { VineError } from '../core/problem/problem.js';
import type { RunRule } from '../run/run-rule.js';
import type { Settings } from './schema.js';

const shellQuote = lazily<typeof ShellQuote>('shell-quote');

/**
 * Programs that run alongside, with everything filled in. `env` holds what the environment files say.
 *
 * @throws VineError `unknown-setting` for a command that only a shell can read.
 */
export function runRules(root: string, rules: NonNullable<Settings['run']>, env: Readonly<Record<string, string>>): RunRule[] {
  const names = new Set<string>();
  return rules.map(({ name, command, shell = false, cwd, env: own = {}, ready, restartOn = [], inspect = false }) => {
    // What the process itself was given comes before files, and what the rule says before both.
    const files = Object.fromEntries(Object.entries(env).filter(([key]) => process.env[key] === undefined));
    const words = shell
      ? [[command].flat().join(' ')]
      : typeof command === 'string'
        ? wordsOf(command, { ...process.env, ...files, ...own })
        : command;
    const free = freeName(name ?? nameOf(words), names);
    names.add(free);
    return {
      name: free,
      command: words,
      shell,
      cwd: cwd === undefined ? root : resolve(root, cwd),
      env: { ...files, ...own },
      ...(ready === undefined ? {} : { ready }),
      restartOn,
      inspect,
    };
  });
}

/** A command as a shell would take it apart, without one. */
function wordsOf(command: string, env: Readonly<Record<string, string | undefined>>): string[] {
  const words = shellQuote().parse(command, env as Record<string, string>);
  return words.map((word) => {
    if (typeof word === 'string') return word;
    const sign = 'op' in word ? (word.op === 'glob' ? word.pattern : word.op) : '#';
    throw new VineError({
      code: 'unknown-setting',
      message: `The command '${command}' holds '${sign}', which only a shell understands.`,
      hint: "Write it as a list, ['node', 'server.js'], or let a shell read it: shell: true",
    });
  });
}

/** What a program is called: by the file that it runs, or by its own name. */
function nameOf([program = 'run', ...rest]: readonly string[]): string {
  const file = rest.find((word) => !word.startsWith('-'));
  const word = file ?? program;
  return (
    basename(word, extname(word))
      .replace(/[^\w.-]+/g, '-')
      .slice(0, 30) || 'run'
  );
}

function freeName(name: string, taken: ReadonlySet<string>): string {
  for (let count = 1; ; count++) {
    const free = count === 1 ? name : `${name}-${count}`;
    if (!taken.has(free)) return free;
  }
}
