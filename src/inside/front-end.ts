import type { IncomingMessage, ServerResponse } from 'node:http';
import type { Socket } from 'node:net';
import type { Duplex } from 'node:stream';
import type { EntryTags, FrontEnd, FrontEndOptions } from './options.js';

export type { EntryTags, FrontEnd, FrontEndOptions } from './options.js';

/** A server that answers requests without listening itself. */
interface Inner {
  handle(request: IncomingMessage, response: ServerResponse, handling: { next?: (() => void) | undefined }): void;
  upgrade(request: IncomingMessage, socket: Duplex, head: Buffer): boolean;
  tags(entry: string): EntryTags;
  close(): Promise<void>;
}

/**
 * Puts the front end into a server of yours: `node:http`, Express, or whatever gives its raw requests. With `NODE_ENV=production` in the
 * environment the same lines serve what `vine-spark build` wrote. Settles when everything was read.
 *
 * @throws an error with a `problem` for mistakes in the settings, missing pages, and in production a missing build.
 */
export async function frontEnd(options: FrontEndOptions = {}): Promise<FrontEnd> {
  const isBuilt = process.env.NODE_ENV === 'production';
  const inner: Inner = isBuilt
    ? await (await import('./built.js')).builtFrontEnd(options)
    : await (await import('./live.js')).liveFrontEnd(options);
  return {
    handle(request, response, next) {
      const restore = unmount(request);
      const goOn =
        next &&
        (() => {
          restore();
          next();
        });
      inner.handle(request, response, { next: goOn });
    },
    upgrade(request, socket, head) {
      if (inner.upgrade(request, socket, head)) return;
      // Whoever is the only one to listen has to answer.
      const { server } = request.socket as Socket & { server?: NodeJS.EventEmitter };
      if ((server?.listenerCount('upgrade') ?? 1) > 1) return;
      socket.end('HTTP/1.1 404 Not Found\r\nconnection: close\r\ncontent-length: 0\r\n\r\n');
    },
    tags: (entry) => inner.tags(entry),
    close: () => inner.close(),
  };
}

/** Frameworks take the path off under which something is mounted; here it's the whole one that counts. Returns what undoes that. */
function unmount(request: IncomingMessage & { originalUrl?: string }): () => void {
  const { url, originalUrl } = request;
  if (originalUrl === undefined || originalUrl === url || url === undefined) return () => {};
  request.url = originalUrl;
  return () => {
    request.url = url;
  };
}
