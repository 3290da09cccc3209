import { directCall, directCallHint } from '../../core/direct-call.js';
import type { DirectCallMessage } from '../../core/live/messages.js';
import { type Problem, problemAt } from '../../core/problem/problem.js';
import { lineStarts } from '../../core/text/line-index.js';
import { tryToConnect } from '../../forward/backend-states.js';
import { type CompiledRule, findRule } from '../../forward/rule.js';
import { parseTarget } from '../../forward/target.js';
import { type OriginOf, readStack } from '../pieces/map-stack.js';

/** What to say of a call to another origin of this machine; `undefined` for a call of anything else. */
export async function explainDirectCall(
  { url, how, outcome, stack }: DirectCallMessage,
  { rules, originOf }: { rules: readonly CompiledRule[]; originOf: OriginOf },
): Promise<Problem | undefined> {
  const call = directCall(url);
  const target = call && parseTarget(call.origin);
  if (!call || !target) return undefined;
  const named = how === 'fetch' ? `fetch('${url}')` : `${how} of '${url}'`;
  const failure = outcome === 'blocked' ? await tryToConnect(target) : undefined;
  const message =
    outcome === 'no-cookie'
      ? `${named} went without cookies, since ${call.origin} is another origin than the page's.`
      : failure === undefined
        ? `The browser blocked ${named}: ${call.origin} is another origin than the page's and does not let it read the answer.`
        : `Nothing answers at ${call.origin} (${failure}), so ${named} failed.`;
  const [path] = call.path.split('?');
  const known = findRule(rules, { path: path!, method: 'GET', headers: {} }, 'first');
  const leads = known && known.to.label === target.label;
  const hint = leads ? `Ask for '${call.path}' instead: the rule for ${known.label} leads there already.` : directCallHint(call);
  const told = { code: 'call-blocked', message, hint } as const;
  for (const frame of readStack(stack)) {
    const origin = await originOf(frame);
    if (!origin) continue;
    const { file, source, line, column } = origin;
    const start = (lineStarts(source)[line - 1] ?? 0) + column;
    return { ...problemAt({ file, text: source, start }, told), severity: 'warning' };
  }
  return { ...told, severity: 'warning' };
}
