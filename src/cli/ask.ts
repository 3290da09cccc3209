import { VineError } from '../core/problem/problem.js';

/** Asks in the terminal which of some things it is to be. Throws a `VineError` where the person breaks it off. */
export async function askWhich<Value extends string>(
  message: string,
  choices: readonly { value: Value; title: string }[],
): Promise<Value> {
  return ask({ type: 'select', message, choices: [...choices], hint: 'arrows, then Enter' });
}

/** Asks in the terminal for a yes or no. Throws a `VineError` where the person breaks it off. */
export async function askYes(message: string, initial: boolean): Promise<boolean> {
  return ask({ type: 'confirm', message, initial });
}

async function ask<Answer>(question: object): Promise<Answer> {
  const { default: prompts } = await import('prompts');
  const { answer } = await prompts({ ...question, name: 'answer' } as import('prompts').PromptObject<'answer'>);
  if (answer === undefined)
    throw new VineError({
      code: 'unknown-option',
      message: 'Broken off, since the question was not answered.',
      hint: 'Every question can be answered by an option, or by --yes. See --help.',
    });
  return answer as Answer;
}
