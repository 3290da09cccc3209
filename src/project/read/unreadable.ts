import type { Problem } from '../../core/problem/problem.js';

/** What keeps bytes from being read as text. */
export function notText(id: string, text: string): Problem | undefined {
  const start = text.slice(0, 2000);
  if (!start.includes('\0')) return undefined;
  const isUtf16 = /^\ufffd\ufffd/.test(start) || (start.match(/[\x20-\x7e]\0|\0[\x20-\x7e]/g)?.length ?? 0) > start.length / 4;
  return {
    code: 'file-unreadable',
    severity: 'error',
    file: id,
    message: `${id} is no text in UTF-8: ${isUtf16 ? 'it is written in UTF-16' : 'it holds binary data'}.`,
    hint: isUtf16 ? 'Save it as UTF-8.' : 'If it is meant to be used by its URL, give it the extension of what it is.',
  };
}

/** What can't be made a module of, since nothing here translates it. */
export function foreignKind(id: string): Problem {
  const extension = /\.\w+$/.exec(id)?.[0] ?? '';
  return {
    code: 'kind-unknown',
    severity: 'error',
    file: id,
    message: `${id} looks like source, but nothing here translates files of the kind ${extension}.`,
    hint: `Add an adapter for them to the settings (docs/adapters.md). If only its text is wanted, import it with { type: 'text' }; for its URL, use new URL('…', import.meta.url).`,
  };
}
