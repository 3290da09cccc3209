import type { Duplex } from 'node:stream';
import { endSocket } from '../../forward/end-socket.js';

/** Of a request's head. */
export const mostHeaderBytes = 64 << 10;

const clientErrors: Record<string, [status: string, text: string]> = {
  HPE_HEADER_OVERFLOW: [
    '431 Request Header Fields Too Large',
    `The head of the request is longer than ${mostHeaderBytes >> 10} kB.`,
  ],
  ERR_HTTP_REQUEST_TIMEOUT: ['408 Request Timeout', 'The head of the request did not come in time.'],
};

/** What is no request, or one that two servers could read differently, is refused: it must not reach a backend. */
export function onClientError(error: NodeJS.ErrnoException, socket: Duplex): void {
  if (error.code === 'ECONNRESET' || !socket.writable) return void socket.destroy();
  const [status, text] = clientErrors[error.code ?? ''] ?? [
    '400 Bad Request',
    `This is no valid HTTP request: ${error.message}.`,
  ];
  const body = `${text}\n`;
  endSocket(
    socket,
    `HTTP/1.1 ${status}\r\nconnection: close\r\ncontent-type: text/plain; charset=utf-8\r\ncontent-length: ${Buffer.byteLength(body)}\r\n\r\n${body}`,
  );
}
