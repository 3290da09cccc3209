import { AnyMap, originalPositionFor, sourceContentFor, type TraceMap } from '@jridgewell/trace-mapping';
import { lineStarts } from '../core/line-index.js';
import { type Problem, problemAt } from '../core/problem.js';

/** One line of a stack as browsers write it. */
interface Frame {
  name: string;
  url: string;
  line: number;
  column: number;
}

/** What mapping needs of the server: the source map behind a script's URL, `undefined` for what isn't ours. */
export type MapOf = (url: string) => TraceMap | undefined;

/** Reads the frames of `Error.stack`, in Chromium's notation or in that of Firefox and Safari. */
export function readStack(stack: string): Frame[] {
  const frames: Frame[] = [];
  for (const row of stack.split('\n')) {
    const match = /^\s*at (?:(?:async )?(.*?) \()?(\S+?):(\d+):(\d+)\)?$/.exec(row) ?? /^(.*?)@(\S+?):(\d+):(\d+)$/.exec(row);
    if (match) frames.push({ name: match[1] ?? '', url: match[2]!, line: Number(match[3]), column: Number(match[4]) - 1 });
  }
  return frames;
}

/** The error as a problem at its place in the user's source, with the stack's own frames as its chain. */
export function mapError({ message, stack }: { message: string; stack: string }, mapOf: MapOf, base: string): Problem {
  const problem: Problem = { code: 'run-error', severity: 'error', message };
  let place: Parameters<typeof problemAt>[0] | undefined;
  const chain: string[] = [];
  for (const frame of readStack(stack)) {
    const map = mapOf(frame.url);
    const found = map && originalPositionFor(map, { line: frame.line, column: frame.column });
    if (!map || !found?.source) continue;
    const file = new URL(found.source).pathname.slice(base.length);
    if (file.includes('node_modules/')) continue;
    chain.push(`${frame.name || '(top)'} ${file}:${found.line}:${found.column + 1}`);
    const text = place ? undefined : sourceContentFor(map, found.source);
    if (text) place = { file, text, start: (lineStarts(text)[found.line - 1] ?? 0) + found.column };
  }
  if (!place) return problem;
  return { ...problemAt(place, { code: 'run-error', message }), chain };
}

/** A source map for lookups, from its JSON text; sources become URLs under `mapUrl`. */
export function openMap(text: string, mapUrl: string): TraceMap {
  return new AnyMap(JSON.parse(text), mapUrl) as TraceMap;
}
