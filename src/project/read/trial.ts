import { spawn } from 'node:child_process';
import { fileURLToPath } from 'node:url';
import type { Problem } from '../../core/problem/problem.js';
import type { ScriptLanguage } from '../../core/translate/adapter.js';
import { mayBeTooDeep, tooDeepProblem, type Written } from '../../core/translate/nesting.js';
import { languageOf } from '../../core/translate/translate-script.js';

const longestTrialMs = 20_000;

/** What is tried with a script, and what it's written in. */
interface Work {
  work: 'read' | 'smaller' | 'smaller module';
  lang: ScriptLanguage;
}

/**
 * What keeps a script from being parsed here: one that may be nested too deeply is parsed by a process of its own first, since
 * a native parser without stack takes its process with it. `name` says what it's written in.
 */
export async function tooDeep(id: string, source: string, name = id): Promise<Problem | undefined> {
  const lang = languageOf(name, source, id.includes('node_modules/'));
  const written = { types: lang.startsWith('ts'), elements: lang.endsWith('x') };
  return (await survivesElsewhere({ work: 'read', lang }, source, written)) ? undefined : tooDeepProblem(id);
}

/** Processes that are being tried: more of them than there are processors only take each other's time. */
const running: Promise<unknown>[] = [Promise.resolve(), Promise.resolve()];

/**
 * Whether a script is read or made smaller without the process coming to its end. One that can't be nested too deeply isn't tried.
 */
export async function survivesElsewhere(work: Work, source: string, written: Written): Promise<boolean> {
  if (!mayBeTooDeep(source, written)) return true;
  const trial = running.shift()!.then(() => tried(work, source));
  running.push(trial);
  return trial;
}

function tried({ work, lang }: Work, source: string): Promise<boolean> {
  return new Promise((resolve) => {
    const script = fileURLToPath(new URL('./trial-process.js', import.meta.url));
    const child = spawn(process.execPath, [script, work, lang], { stdio: ['pipe', 'ignore', 'ignore'], timeout: longestTrialMs });
    child.on('error', () => resolve(true)); // no process can be started: nothing is known
    // One that only took too long says nothing either.
    child.on('close', (code) => resolve(code === 0 || child.killed));
    child.stdin.on('error', () => {}); // it ended before it had read all
    child.stdin.end(source);
  });
}
