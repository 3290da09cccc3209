import { isThisMachine } from '../../core/direct-call.js';
import type { DirectCallMessage } from '../../core/live/messages.js';
import { isElsewhere } from '../runtime/base-path.js';
import { pieceTags } from '../runtime/runtime.js';

/** How a page asked for something. */
interface Call {
  url: string;
  how: DirectCallMessage['how'];
  stack: string;
}

const mostTold = 50;

/**
 * Notices calls of the page to other origins of this machine that browsers block, or send no cookies with. What the page gets is
 * the same as without.
 */
export function watchDirectCalls(tell: (message: DirectCallMessage) => void): void {
  // A page of a backend calls its own origin, which is none of our business.
  if (isElsewhere()) return;
  const told = new Set<string>();
  const noticed = ({ url, how, stack }: Call, outcome: DirectCallMessage['outcome']) => {
    const key = `${outcome} ${outcome === 'blocked' ? url : new URL(url).origin}`;
    if (told.has(key) || told.size >= mostTold) return;
    told.add(key);
    tell({ type: 'direct-call', url, how, outcome, stack, pieces: pieceTags });
  };
  watchFetch(noticed);
  watchRequests(noticed);
  watchEvents(noticed);
}

type Noticed = (call: Call, outcome: DirectCallMessage['outcome']) => void;

/** The call, where it goes to another origin of this machine. */
function callOf(url: string | URL, how: Call['how']): Call | undefined {
  if (!URL.canParse(url, document.baseURI)) return undefined;
  const target = new URL(url, document.baseURI);
  const isNear = isThisMachine(target.hostname) || target.hostname === location.hostname;
  if (!/^https?:$/.test(target.protocol) || target.origin === location.origin || !isNear) return undefined;
  return { url: target.href, how, stack: new Error().stack ?? '' };
}

function watchFetch(noticed: Noticed): void {
  const plain = globalThis.fetch;
  if (typeof plain !== 'function') return;
  const watched = {
    fetch(this: unknown, input: RequestInfo | URL, init?: RequestInit): Promise<Response> {
      const answer = plain.call(this === undefined ? globalThis : (this as typeof globalThis), input, init);
      const isRequest = typeof Request !== 'undefined' && input instanceof Request;
      const call = callOf(isRequest ? input.url : (input as string | URL), 'fetch');
      if (!call || (init?.mode ?? (isRequest ? input.mode : '')) === 'no-cors') return answer;
      const credentials = init?.credentials ?? (isRequest ? input.credentials : 'same-origin');
      return answer.then(
        (response) => {
          if (credentials !== 'include') noticed(call, 'no-cookie');
          return response;
        },
        (error: unknown) => {
          // Anything else, such as an abort, is the page's own doing.
          if (error instanceof TypeError) noticed(call, 'blocked');
          throw error;
        },
      );
    },
  };
  globalThis.fetch = watched.fetch as typeof fetch;
}

function watchRequests(noticed: Noticed): void {
  if (typeof XMLHttpRequest === 'undefined') return;
  const urls = new WeakMap<XMLHttpRequest, string | URL>();
  const { open, send } = XMLHttpRequest.prototype;
  XMLHttpRequest.prototype.open = function (this: XMLHttpRequest, ...args: unknown[]) {
    urls.set(this, args[1] as string);
    return Reflect.apply(open, this, args);
  };
  XMLHttpRequest.prototype.send = function (this: XMLHttpRequest, ...args: unknown[]) {
    const call = callOf(urls.get(this) ?? '', 'XMLHttpRequest');
    if (call) {
      this.addEventListener('error', () => noticed(call, 'blocked'), { once: true });
      this.addEventListener('load', () => this.withCredentials || noticed(call, 'no-cookie'), { once: true });
    }
    return Reflect.apply(send, this, args);
  };
}

function watchEvents(noticed: Noticed): void {
  if (typeof EventSource === 'undefined') return;
  globalThis.EventSource = new Proxy(EventSource, {
    construct(target, args: ConstructorParameters<typeof EventSource>, self) {
      const call = callOf(args[0], 'EventSource');
      const source = Reflect.construct(target, args, self) as EventSource;
      // It tries again by itself where the server is only away.
      if (call) source.addEventListener('error', () => source.readyState === EventSource.CLOSED && noticed(call, 'blocked'));
      return source;
    },
  });
}
