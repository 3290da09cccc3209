import { z } from 'zod';

/** Fields that may stand in a message: others would end up in the middle of an answer. */
const field = z.looseObject({
  name: z.string().regex(/^[\w!#$%&'*+.^`|~-]+$/, 'must be the name of a field'),
  value: z.string().regex(/^[\t\x20-\x7e\x80-\xff]*$/, 'must be the value of a field'),
});

/** An exchange as HAR 1.2 writes it down. Other tools add more; what isn't needed here is left as it is. */
const entrySchema = z.looseObject({
  startedDateTime: z.string(),
  time: z.number().min(0).max(600_000),
  request: z.looseObject({
    method: z.string().regex(/^[\w!#$%&'*+.^`|~-]+$/, 'must be a method'),
    url: z.string().min(1),
    httpVersion: z.string().default('HTTP/1.1'),
    headers: z.array(field).default([]),
    postData: z.looseObject({ mimeType: z.string().default(''), text: z.string().default('') }).optional(),
  }),
  response: z.looseObject({
    status: z.number().int().min(200, 'must be a status').max(999, 'must be a status'),
    statusText: z
      .string()
      .regex(/^[\t\x20-\x7e\x80-\xff]*$/, 'must be a reason')
      .default(''),
    headers: z.array(field).default([]),
    content: z
      .looseObject({ mimeType: z.string().default(''), text: z.string().optional(), encoding: z.string().optional() })
      .default({ mimeType: '' }),
  }),
});

const harSchema = z.looseObject({ log: z.looseObject({ version: z.string().default('1.2'), entries: z.array(z.unknown()) }) });

export type HarEntry = z.infer<typeof entrySchema>;

/**
 * Reads the text of a HAR file. Entries that can't be answered with are left out, which `onLeftOut` is told.
 *
 * @throws Error with what is wrong with the file as a whole.
 */
export function readHar(text: string, onLeftOut: (what: string) => void): HarEntry[] {
  const parsed = harSchema.safeParse(JSON.parse(text));
  if (!parsed.success) throw new Error(whatIsWrong(parsed.error));
  const { entries } = parsed.data.log;
  const left: string[] = [];
  const usable = entries.flatMap((candidate, at) => {
    const entry = entrySchema.safeParse(candidate);
    if (entry.success) return [entry.data];
    left.push(`log.entries.${at}.${whatIsWrong(entry.error)}`);
    return [];
  });
  if (usable.length === 0 && left.length > 0) throw new Error(left[0]);
  for (const what of left) onLeftOut(what);
  return usable;
}

function whatIsWrong({ issues }: z.ZodError): string {
  const [issue] = issues;
  return `${issue!.path.join('.') || 'the file'}: ${issue!.message}`;
}

/** The text of a HAR 1.2 file. */
export function writeHar(entries: readonly HarEntry[], version: string): string {
  const log = { version: '1.2', creator: { name: 'Vine Spark', version }, entries };
  return `${JSON.stringify({ log }, null, 1)}\n`;
}
