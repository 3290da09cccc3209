import { escapeHtml, toolPage } from '../core/tool-page.js';

export interface BackendDown {
  /** The rule's paths as written. */
  label: string;
  origin: string;
  path: string;
  /** What the connection failed with, e.g. `ECONNREFUSED`. */
  code: string;
  wantsHtml: boolean;
}

const meanings: Record<string, string> = {
  ECONNREFUSED: 'Nothing listens there.',
  ECONNRESET: 'The backend ended the connection before it answered.',
  ENOTFOUND: 'There is no host of that name.',
  ETIMEDOUT: 'No connection comes about in time.',
  CONNECTIONS_TAKEN: 'All connections to it are taken, e.g. by event streams that stay open.',
  ANSWER_TIMEOUT: 'It takes longer to answer than the rule allows (timeouts.answerMs).',
  DEPTH_ZERO_SELF_SIGNED_CERT: 'Its certificate is self-signed; selfSigned: true in the rule accepts it.',
  SELF_SIGNED_CERT_IN_CHAIN: 'Its certificate is self-signed; selfSigned: true in the rule accepts it.',
  UNABLE_TO_VERIFY_LEAF_SIGNATURE: 'Nobody vouches for its certificate; selfSigned: true in the rule accepts it.',
  ENOENT: 'There is no socket of that name.',
  BAD_STATUS: 'It answered with a status that HTTP does not have.',
  UNASKED_UPGRADE: 'It changed to another protocol, which nobody asked it to.',
  HPE_HEADER_OVERFLOW: 'The head of its answer is longer than 128 kB.',
  EHOSTUNREACH: 'There is no way to that host.',
};

/** What a client gets when the backend can't be reached: a page for people, JSON for programs. */
export function backendDownPage({ label, origin, path, code, wantsHtml }: BackendDown): { type: string; body: string } {
  const isNoAnswer = /^HPE_/.test(code);
  const meaning =
    (Object.hasOwn(meanings, code) ? meanings[code] : undefined) ??
    (isNoAnswer ? 'What it sent is no HTTP answer.' : 'The connection failed.');
  const advice = `Start the backend, or correct the address of the rule for ${label}.`;
  if (!wantsHtml) {
    const error = {
      code: 'backend-unreachable',
      message: `The backend at ${origin} cannot be reached. ${meaning}`,
      rule: label,
      backend: origin,
      path,
      cause: code,
      hint: advice,
    };
    return { type: 'application/json; charset=utf-8', body: `${JSON.stringify({ error }, null, 2)}\n` };
  }
  const body = `<h1>The backend does not answer</h1>
<p>${escapeHtml(meaning)} ${escapeHtml(advice)} This page tries again every two seconds.</p>
<dl>
<dt>Asked for</dt><dd><code>${escapeHtml(path)}</code></dd>
<dt>Rule</dt><dd><code>${escapeHtml(label)}</code> is forwarded to <code>${escapeHtml(origin)}</code></dd>
<dt>Cause</dt><dd><code>${escapeHtml(code)}</code></dd>
</dl>`;
  return { type: 'text/html; charset=utf-8', body: toolPage({ title: 'The backend does not answer', body, refreshSeconds: 2 }) };
}
