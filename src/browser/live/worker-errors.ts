import type { PageErrorMessage } from '../../core/live/messages.js';
import { ownUrl } from '../../core/urls.js';
import { frontEndBase, ours } from '../runtime/base-path.js';
import { asked, isError, thrownText } from '../runtime/page-values.js';
import { pieceTags } from '../runtime/runtime.js';

/** Tells the server of errors that nothing in the worker catches: they show in the terminal with the user's own positions. */
export function watchWorkerErrors(): void {
  addEventListener('error', (event) => report((event as ErrorEvent).error, (event as ErrorEvent).message));
  addEventListener('unhandledrejection', (event) => report((event as PromiseRejectionEvent).reason, 'rejected'));
}

function report(error: unknown, text: string): void {
  void post({
    type: 'error',
    message: isError(error) ? thrownText(error) : text,
    stack: isError(error) ? (asked(() => error.stack, '') ?? '') : '',
    during: 'life',
    pieces: pieceTags,
  }).catch(() => {
    // The server is gone; the browser's own console has the error.
  });
}

async function post(message: PageErrorMessage): Promise<void> {
  const own = (name: 'session' | 'error') => new URL(ours(ownUrl.plain(frontEndBase(), name)), location.origin).href;
  const { key } = (await (await fetch(own('session'), { cache: 'no-store' })).json()) as { key: string };
  const query = new URLSearchParams({ key, worker: location.pathname });
  await fetch(`${own('error')}?${query}`, { method: 'POST', body: JSON.stringify(message) });
}
