import { z } from 'zod';
import type { Adapter } from '../core/translate/adapter.js';
import type { HeaderChanges } from '../forward/rule.js';
import { parseTarget } from '../forward/target.js';
import { sizePattern } from './size.js';

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

function isFunction(value: unknown): boolean {
  return typeof value === 'function';
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

const headerChanges = z
  .union([
    z.record(z.string(), z.string().nullable()),
    z.custom<Exclude<HeaderChanges, Record<string, string | null>>>(isFunction),
  ])
  .optional();

const forwardRule = z.strictObject({
  paths: z.array(path).min(1),
  to: z
    .string()
    .refine((text) => parseTarget(text) !== undefined, 'must be an origin such as http://127.0.0.1:8464, or unix:/path'),
  when: z.enum(['first', 'missing']).optional(),
  methods: z.array(z.string()).optional(),
  headers: z.record(z.string(), z.string()).optional(),
  path: z
    .union([
      z.strictObject({ drop: path.optional(), add: path.optional() }),
      z.custom<(path: string) => string>(isFunction, 'must be { drop, add } or a function'),
    ])
    .optional(),
  host: z
    .string()
    .regex(/^[\w.:[\]-]+$/, "must be 'backend', 'browser' or a host name")
    .optional(),
  requestHeaders: headerChanges,
  responseHeaders: headerChanges,
  cookies: z
    .strictObject({
      domain: z.string().nullable().optional(),
      path: z.string().nullable().optional(),
      secure: z.boolean().optional(),
      sameSite: z.string().nullable().optional(),
    })
    .optional(),
  redirects: z.enum(['ours', 'untouched']).optional(),
  selfSigned: z.boolean().optional(),
  origins: z.union([z.literal('any'), z.array(origin)]).optional(),
  forwarded: z.boolean().optional(),
  html: z.enum(['ours', 'untouched']).optional(),
  entries: z.array(z.string().min(1)).optional(),
  timeouts: z.strictObject({ connectMs: z.number().positive().optional(), answerMs: z.number().min(0).optional() }).optional(),
});

/** A number of bytes, or a text such as `180 KB`. */
const size = z.union([
  z.number().int().nonnegative(),
  z.string().regex(sizePattern, "must be a number of bytes, or a size such as '180 KB'"),
]);

/** Files of the user's own certificate, in PEM. */
const ownCertificate = z.strictObject({ key: z.string().min(1), certificate: z.string().min(1) });

/** A page that has no file: made of what it runs. */
const generatedPage = z.strictObject({
  script: z.union([z.string().min(1), z.array(z.string().min(1)).min(1)]),
  title: z.string().optional(),
  mount: z
    .string()
    .regex(/^[^\s"'<>]+$/, 'must be the id of the element that the script fills, such as harbour')
    .optional(),
  language: z
    .string()
    .regex(/^[A-Za-z0-9-]+$/, 'must be a language tag such as en')
    .optional(),
});

/** What a setting of `pages` may be besides the path of an HTML file. */
export type GeneratedPageSettings = z.infer<typeof generatedPage>;

/** The settings file's schema: every key optional, unknown ones refused. `docs/settings.md` describes the same keys. */
export const settingsSchema = z.strictObject({
  $schema: z.string().optional(),
  pages: z
    .record(
      path,
      z.union([z.string().min(1), generatedPage], 'must be the path of an HTML file, or { script, title, mount, language }'),
    )
    .optional(),
  insert: z.strictObject({ head: z.string().optional(), body: z.string().optional() }).optional(),
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
      https: z.union([z.boolean(), ownCertificate], 'must be true, false, or { key, certificate }').optional(),
    })
    .optional(),
  forward: z.array(forwardRule).optional(),
  run: z
    .array(
      z.strictObject({
        name: z
          .string()
          .regex(/^[\w.-]{1,30}$/, 'must be a short name of letters and digits')
          .optional(),
        command: z.union([z.string().min(1), z.array(z.string().min(1)).min(1)]),
        shell: z.boolean().optional(),
        cwd: z.string().min(1).optional(),
        env: z.record(z.string(), z.string()).optional(),
        ready: z.union([z.string().min(1), port]).optional(),
        restartOn: z.array(z.string().min(1)).optional(),
        inspect: z.boolean().optional(),
      }),
    )
    .optional(),
  embed: z
    .strictObject({
      from: z.array(origin).optional(),
      entries: z.array(z.string().min(1)).optional(),
      urls: z.record(path, z.string().min(1)).optional(),
      watch: z.array(z.string().min(1)).optional(),
    })
    .optional(),
  output: z
    .strictObject({
      folder: z.string().min(1).optional(),
      empty: z.boolean().optional(),
      sourceMaps: z.enum(['on', 'hidden', 'off']).optional(),
      manifest: z.boolean().optional(),
      integrity: z.boolean().optional(),
      inlineBytes: size.optional(),
      functionNames: z.enum(['kept', 'free']).optional(),
      limits: z.strictObject({ firstLoad: size.optional(), later: size.optional() }).optional(),
    })
    .optional(),
  targets: z.string().min(1).optional(),
  alias: z.record(z.string(), z.string()).optional(),
  roots: z.array(z.string()).optional(),
  conditions: z.array(z.string()).optional(),
  pageErrors: z.boolean().optional(),
  types: z.boolean().optional(),
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
