import { z } from 'zod';
import type { Adapter } from '../core/adapter.js';

const path = z.string().startsWith('/', 'must start with /');
const port = z.number().int('must be a whole number').min(0).max(65_535, 'must be at most 65535');

/** An origin such as `http://127.0.0.1:8464`; paths and queries have no place in it. */
const origin = z.string().refine(isOrigin, 'must be an origin such as http://127.0.0.1:8464');

function isOrigin(value: string): boolean {
  try {
    const { protocol, pathname, search, hash } = new URL(value);
    return (protocol === 'http:' || protocol === 'https:') && pathname === '/' && search === '' && hash === '';
  } catch {
    return false;
  }
}

function isAdapter(value: unknown): boolean {
  const adapter = value as Partial<Adapter> | null;
  return (
    typeof adapter === 'object' &&
    adapter !== null &&
    typeof adapter.name === 'string' &&
    adapter.files instanceof RegExp &&
    typeof adapter.translate === 'function'
  );
}

/** The settings file's schema: every key optional, unknown ones refused. `docs/settings.md` describes the same keys. */
export const settingsSchema = z.strictObject({
  pages: z.record(path, z.string().min(1)).optional(),
  base: z
    .string()
    .regex(/^\/(?:.*\/)?$/, 'must start and end with /')
    .optional(),
  verbatim: z.array(z.string()).optional(),
  listen: z
    .strictObject({
      host: z.string().min(1).optional(),
      port: port.optional(),
      exact: z.boolean().optional(),
      names: z.array(z.string()).optional(),
    })
    .optional(),
  forward: z
    .array(z.strictObject({ paths: z.array(path).min(1), to: origin, when: z.enum(['first', 'missing']).optional() }))
    .optional(),
  embed: z.strictObject({ from: z.array(origin) }).optional(),
  alias: z.record(z.string(), z.string()).optional(),
  roots: z.array(z.string()).optional(),
  conditions: z.array(z.string()).optional(),
  pageErrors: z.boolean().optional(),
  expose: z.array(z.string()).optional(),
  adapters: z.array(z.custom<Adapter>(isAdapter, 'must be an adapter: { name, files, translate }')).optional(),
  constants: z.record(z.string(), z.union([z.string(), z.number(), z.boolean(), z.null()])).optional(),
});

/** What `vine-spark.config.ts` exports. */
export type Settings = z.input<typeof settingsSchema>;

/** The keys that may stand at the top or below another key, for "did you mean". */
export function knownKeys(above: readonly PropertyKey[]): string[] {
  let schema: unknown = settingsSchema;
  for (const key of above) {
    schema = unwrap(schema);
    if (schema instanceof z.ZodObject) schema = schema.shape[key as string];
    else if (schema instanceof z.ZodArray) schema = schema.element;
    else return [];
  }
  schema = unwrap(schema);
  return schema instanceof z.ZodObject ? Object.keys(schema.shape) : [];
}

function unwrap(schema: unknown): unknown {
  return schema instanceof z.ZodOptional ? unwrap(schema.unwrap()) : schema;
}
