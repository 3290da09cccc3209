import { parse } from 'oxc-parser';
import { segmentWidth } from '../core/maps/segments.js';
import type { MappedText } from './mapped.js';

/** As the minifier writes them: `-.5`, `-1e-7`, `-0x6b14e9f812f368000`, and `-1/0`. */
const negative = /-(?:1\/0|0x[\da-f]+|[\d.]+(?:e-?\d+)?)/;
const key = new RegExp(negative.source, 'y');
/** What looks like a member whose key is a negative number, without the brackets that it needs: `static-1=2`, `{-1(){}`. */
const bareKey = new RegExp(`(?<=[{};,*]|\\b(?:static|get|set|async))${negative.source}(?=\\(|=(?![=>])|[;}])`);
/** Each of them is found by reading the text once more. */
const most = 200;

/**
 * Puts the brackets back that the minifier leaves out around keys that are negative numbers, without which the text is no script at
 * all. Settles with `undefined` where something else is wrong with it.
 */
export async function withBrackets({ text, map }: MappedText, isModule: boolean): Promise<MappedText | undefined> {
  let whole = text;
  for (let found = 0; bareKey.test(whole) && found <= most; found++) {
    const { errors } = await parse('script.js', whole, { sourceType: isModule ? 'module' : 'script' });
    const start = errors[0]?.labels[0]?.start;
    if (errors.length === 0) return { text: whole, ...(map ? { map } : {}) };
    key.lastIndex = start ?? 0;
    const bare = key.exec(whole)?.[0];
    if (start === undefined || bare === undefined) return undefined;
    whole = `${whole.slice(0, start)}[${bare}]${whole.slice(start + bare.length)}`;
    if (map) makeRoom(map.segments, whole, start, bare.length);
  }
  return bareKey.test(whole) ? undefined : { text: whole, ...(map ? { map } : {}) };
}

/** Moves what stands on the line behind the brackets. */
function makeRoom(segments: Int32Array, text: string, start: number, length: number): void {
  const before = text.slice(0, start).split('\n');
  const line = before.length - 1;
  const column = before[line]!.length;
  for (let at = 0; at < segments.length; at += segmentWidth) {
    if (segments[at] !== line || segments[at + 1]! < column) continue;
    segments[at + 1]! += segments[at + 1]! >= column + length ? 2 : 1;
  }
}
