import { type AddressInfo, connect, createServer, type Server, type Socket } from 'node:net';

/** An HTTP message as it came over the wire, with chunks joined. */
export interface RawMessage {
  /** Request line or status line. */
  start: string;
  /** In order, names as they were spelled. */
  fields: [name: string, value: string][];
  body: string;
  trailers: [name: string, value: string][];
  /** The message ended as its framing says, and not by a cut. */
  isWhole: boolean;
}

/** Reads one message from bytes (latin1). `hasNoBody`: the answer to a HEAD. */
export function readMessage(text: string, hasNoBody = false): RawMessage {
  const end = text.indexOf('\r\n\r\n');
  const [start = '', ...rows] = text.slice(0, end).split('\r\n');
  const fields = rows.map(pairOf);
  const rest = text.slice(end + 4);
  const get = (name: string) => fields.find(([field]) => field.toLowerCase() === name)?.[1];
  const status = /^HTTP\S* (\d+)/.exec(start)?.[1];
  if (status?.startsWith('1') && status !== '101') return readMessage(rest, hasNoBody);
  if (hasNoBody || status === '204' || status === '304') return { start, fields, body: rest, trailers: [], isWhole: rest === '' };
  if (get('transfer-encoding')?.includes('chunked')) return { start, fields, ...readChunks(rest) };
  const length = get('content-length');
  const isWhole = length === undefined || rest.length === Number(length);
  return { start, fields, body: rest, trailers: [], isWhole };
}

function readChunks(text: string): Pick<RawMessage, 'body' | 'trailers' | 'isWhole'> {
  let body = '';
  for (let at = 0; ; ) {
    const line = text.indexOf('\r\n', at);
    if (line === -1) return { body, trailers: [], isWhole: false };
    const size = Number.parseInt(text.slice(at, line), 16);
    if (size === 0) {
      const trailers = text
        .slice(line + 2)
        .split('\r\n')
        .filter((row) => row !== '')
        .map(pairOf);
      return { body, trailers, isWhole: true };
    }
    body += text.slice(line + 2, line + 2 + size);
    at = line + 2 + size + 2;
  }
}

function pairOf(row: string): [string, string] {
  const colon = row.indexOf(':');
  return [row.slice(0, colon), row.slice(colon + 1).trim()];
}

/** Sends bytes to a port and gives all that comes back until the other end closes. */
export function sendRaw(port: number, bytes: string, host = '127.0.0.1'): Promise<string> {
  return new Promise((resolve) => {
    const socket = connect(port, host);
    let answer = '';
    socket.setEncoding('latin1');
    socket.on('data', (data) => {
      answer += data;
    });
    socket.on('error', () => resolve(answer));
    socket.on('close', () => resolve(answer));
    socket.write(bytes, 'latin1');
  });
}

/** A backend that answers every connection's first request with bytes, and keeps what it was sent. */
export class RawBackend {
  readonly received: string[] = [];
  /** Decides what to do with a request; by default `answer` is written and the connection ended. */
  onRequest: ((socket: Socket, request: string) => void) | undefined;
  answer = '';
  #sockets = new Set<Socket>();

  private constructor(
    readonly server: Server,
    readonly port: number,
  ) {}

  static async start(): Promise<RawBackend> {
    const server = createServer();
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    const backend = new RawBackend(server, (server.address() as AddressInfo).port);
    server.on('connection', (socket) => backend.#connected(socket));
    return backend;
  }

  #connected(socket: Socket): void {
    this.#sockets.add(socket);
    socket.on('error', () => socket.destroy());
    let request = '';
    socket.setEncoding('latin1');
    socket.on('data', (data) => {
      request += data;
      if (!isComplete(request)) return;
      this.received.push(request);
      const whole = request;
      request = '';
      if (this.onRequest) this.onRequest(socket, whole);
      else socket.end(this.answer, 'latin1');
    });
  }

  async close(): Promise<void> {
    for (const socket of this.#sockets) socket.destroy();
    await new Promise((resolve) => this.server.close(resolve));
  }
}

function isComplete(request: string): boolean {
  if (!request.includes('\r\n\r\n')) return false;
  const { body, isWhole, fields } = readMessage(request);
  const length = fields.find(([name]) => name.toLowerCase() === 'content-length')?.[1];
  return length === undefined ? isWhole : body.length >= Number(length);
}
