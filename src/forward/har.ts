import { z } from 'zod';

const field = z.looseObject({ name: z.string(), value: z.string() });

/** An exchange as HAR 1.2 writes it down. Other tools add more; what isn't needed here is left as it is. */
const entrySchema = z.looseObject({
  startedDateTime: z.string(),
  time: z.number(),
  request: z.looseObject({
    method: z.string(),
    url: z.string(),
    httpVersion: z.string().default('HTTP/1.1'),
    headers: z.array(field).default([]),
    postData: z.looseObject({ mimeType: z.string().default(''), text: z.string().default('') }).optional(),
  }),
  response: z.looseObject({
    status: z.number(),
    statusText: z.string().default(''),
    headers: z.array(field).default([]),
    content: z
      .looseObject({ mimeType: z.string().default(''), text: z.string().optional(), encoding: z.string().optional() })
      .default({ mimeType: '' }),
  }),
});

const harSchema = z.looseObject({ log: z.looseObject({ version: z.string().default('1.2'), entries: z.array(entrySchema) }) });

export type HarEntry = z.infer<typeof entrySchema>;

/**
 * Reads the text of a HAR file.
 *
 * @throws Error with what is wrong with it.
 */
export function readHar(text: string): HarEntry[] {
  const parsed = harSchema.safeParse(JSON.parse(text));
  if (parsed.success) return parsed.data.log.entries;
  const issue = parsed.error.issues[0]!;
  throw new Error(`${issue.path.join('.') || 'the file'}: ${issue.message}`);
}

/** The text of a HAR 1.2 file. */
export function writeHar(entries: readonly HarEntry[], version: string): string {
  const log = { version: '1.2', creator: { name: 'Vine Spark', version }, entries };
  return `${JSON.stringify({ log }, null, 1)}\n`;
}
