import { VineError } from '../problem/problem.js';

/** Nobody writes rules in rules so deeply. Native code that follows them runs out of its stack at some thousands; other code takes for ever. */
const deepest = 250;

/** Refuses a style sheet whose nesting would end or hold up the process. @throws VineError `file-too-large`. */
export function refuseDeepSheet(id: string, text: string): void {
  let rules = 0;
  let brackets = 0;
  for (const [sign] of text.matchAll(/\/\*[\s\S]*?(?:\*\/|$)|"(?:[^"\\\n]|\\[\s\S])*"|'(?:[^'\\\n]|\\[\s\S])*'|[{}()[\];]/g)) {
    if (sign === '(' || sign === '[') brackets++;
    else if (sign === ')' || sign === ']') brackets = Math.max(0, brackets - 1);
    else if (sign.length === 1) {
      if (sign === '{') rules++;
      else if (sign === '}') rules = Math.max(0, rules - 1);
      // Whatever was open ends with what it stands in.
      brackets = 0;
    }
    if (rules + brackets > deepest)
      throw new VineError({
        code: 'file-too-large',
        file: id,
        message: `${id} is too deeply nested to be taken apart.`,
        hint: `Rules or brackets stand in each other more than ${deepest} times there. Let it be generated flat.`,
      });
  }
}
