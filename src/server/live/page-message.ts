import { z } from 'zod';
import type { PageMessage } from '../../core/live/messages.js';

const text = z.string().max(10_000);
/** What a page says of an error may be of any length: its beginning says enough. */
const said = (most: number) => z.string().transform((whole) => whole.slice(0, most));
const ids = z.array(text).max(10_000);
const pageMessage: z.ZodType<PageMessage> = z.discriminatedUnion('type', [
  z.object({
    type: z.literal('resume'),
    revision: z.number(),
    page: text,
    digest: z.number(),
    pieces: ids,
    styles: z.record(text, text),
    html: text,
    files: ids,
    loadedAt: z.number(),
  }),
  z.object({ type: z.literal('ask'), revision: z.number() }),
  z.object({
    type: z.literal('applied'),
    update: z.number(),
    boundaries: ids,
    ran: ids,
    styles: ids,
    files: ids,
    reset: ids,
    anew: ids.optional(),
    isBroken: z.boolean().optional(),
    applyMs: z.number(),
    notes: ids,
    stages: z.array(z.tuple([text, z.number()])).max(20),
  }),
  z.object({ type: z.literal('reloaded'), update: z.number(), reason: text, chain: ids }),
  z.object({
    type: z.literal('console'),
    level: z.enum(['debug', 'log', 'info', 'warn', 'error']),
    text: said(2000),
    stack: said(20_000),
    pieces: z.record(text, text),
  }),
  z.object({
    type: z.literal('direct-call'),
    url: z.string().max(2000),
    how: z.enum(['fetch', 'XMLHttpRequest', 'EventSource']),
    outcome: z.enum(['blocked', 'no-cookie']),
    stack: said(20_000),
    pieces: z.record(text, text),
  }),
  z.object({
    type: z.literal('error'),
    message: said(2000),
    stack: said(20_000),
    during: z.enum(['start', 'update', 'life']),
    pieces: z.record(text, text),
    file: text.optional(),
  }),
]) as z.ZodType<PageMessage>;

/** Reads a message of a page; `undefined` for what is none. */
export function readPageMessage(data: string): PageMessage | undefined {
  try {
    const parsed = pageMessage.safeParse(JSON.parse(data));
    return parsed.success ? parsed.data : undefined;
  } catch {
    return undefined; // not one of our pages
  }
}
