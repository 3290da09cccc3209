import type { CompiledScript } from './compile-script.js';

/**
 * A compiled script as one text: a number, so many characters of JSON, then code, mappings and names. Small objects take long
 * to read one by one. The translated text is left out unless it's wanted.
 */
export function packScript({ text, linked, map, ...rest }: CompiledScript, withText = false): string {
  const { code, ...link } = linked;
  const lengths = map && [map.mappings.length, map.names.length];
  const head = JSON.stringify({
    ...rest,
    link,
    code: code.length,
    lengths,
    isComplete: map?.isComplete,
    hasText: withText || undefined,
  });
  return `${head.length}\n${head}${code}${map?.mappings ?? ''}${map?.names ?? ''}${withText ? (text ?? '') : ''}`;
}

/** What `packScript` made a text of; `undefined` for any other text. */
export function unpackScript(text: string): CompiledScript | undefined {
  try {
    const end = text.indexOf('\n') + 1;
    const start = end + Number(text.slice(0, end));
    const { link, code, lengths, isComplete, hasText, ...rest } = JSON.parse(text.slice(end, start));
    const mappings = start + code;
    const names = mappings + (lengths?.[0] ?? 0);
    const map = lengths && { mappings: text.slice(mappings, names), names: text.slice(names, names + lengths[1]) };
    if (isComplete) map.isComplete = true;
    if (hasText) rest.text = text.slice(names + (lengths?.[1] ?? 0));
    return { ...rest, linked: { ...link, code: text.slice(start, mappings) }, ...(map ? { map } : {}) };
  } catch {
    return undefined; // made by something else: it's made anew and written over
  }
}
