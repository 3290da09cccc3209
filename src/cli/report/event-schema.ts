import { z } from 'zod';
import { manifestSchema } from '../../build/manifest.js';

const texts = z.array(z.string());
const ms = z.number().nonnegative().describe('Milliseconds.');
const position = z.object({
  line: z.number().int().positive().describe('From 1.'),
  column: z.number().int().nonnegative().describe('From 0.'),
});
const problem = z
  .object({
    code: z.string().describe('See docs/problems.md.'),
    severity: z.enum(['error', 'warning']),
    message: z.string(),
    file: z.string().optional().describe('Path from the project folder.'),
    position: position.optional(),
    frame: z.array(z.object({ line: z.number(), text: z.string() }).loose()).optional(),
    hint: z.string().optional().describe('What to do about it.'),
    chain: texts.optional().describe('How the file got in, from the page on.'),
  })
  .describe('What is wrong, where, and what to do.');
const page = {
  number: z.number().int().describe('Counts the pages of this run.'),
  browser: z.string(),
  page: z.string(),
  origin: z.string().optional().describe('Origin of the page, where a backend serves it.'),
};
const route = z.object({ pattern: z.string(), page: z.string() });
const listening = {
  version: z.string(),
  project: z.string(),
  url: z.string(),
  port: z.number().int(),
  wantedPort: z.number().int().optional(),
  isForBackend: z.boolean().optional(),
  networkUrls: texts.optional(),
  code: z.object({ url: z.string(), lines: texts }).optional(),
  forwards: z.array(z.object({ label: z.string(), origin: z.string() })),
  routes: z.array(route),
  settingsFile: z.string().optional(),
};
const event = <T extends string, S extends z.ZodRawShape>(name: T, what: string, fields: S) =>
  z.object({ event: z.literal(name), at: z.iso.datetime().describe('When.'), ...fields }).describe(what);
const update = { update: z.number().int(), ms };

/** What `--json` prints, one object a line. More fields may come. */
export const eventSchema = z.discriminatedUnion('event', [
  event('listening', 'Pages can be asked for.', listening),
  event('ready', 'Everything stands.', {
    ...listening,
    notes: texts,
    modules: z.number().int(),
    built: z.object({ folder: z.string(), files: z.number().int() }).optional(),
    ms,
  }),
  event('inside', 'Everything stands inside of a server of the user.', { project: z.string(), modules: z.number().int(), ms }),
  event('update', 'What a save changed.', {
    id: z.number().int(),
    changed: texts,
    removed: texts,
    styles: texts,
    files: texts,
    translations: z.number().int(),
    reload: z.array(z.object({ page: z.string(), reason: z.string() })),
    silent: z.number().int().describe('Pages that have not answered.'),
  }),
  event('applied', 'A page took an update in place.', {
    ...page,
    ...update,
    boundaries: texts,
    ran: texts,
    styles: texts,
    files: texts,
    reset: texts.describe('What lost its state.'),
    anew: texts.optional(),
    isBroken: z.boolean().optional(),
    notes: texts,
  }),
  event('reloaded', 'A page loaded anew because of an update, and why.', {
    ...page,
    ...update,
    reason: z.string(),
    chain: texts,
  }),
  event('problems', 'What keeps pages, or a build, from being up to date.', { problems: z.array(problem) }),
  event('built', 'A build was written.', {
    manifest: manifestSchema,
    summary: z.object({}).loose().describe('Sizes by page and package, in bytes.'),
    others: texts.describe("Files in the folder that are somebody else's."),
    warnings: z.array(problem),
    notes: texts,
    unchanged: z.boolean().describe('Nothing has changed since the last build, which was put in place again.'),
    ms,
  }),
  event('solved', 'Nothing does any more.', { ms }),
  event('problem', 'Something that was asked for beside did not work.', { problem }),
  event('warning', 'Something need not be wrong.', { warning: problem }),
  event('note', 'Something to know.', { text: z.string() }),
  event('settings', 'Other settings are in force.', { ms, needsRestart: texts }),
  event('pages', 'Pages came or went.', { routes: z.array(route), added: texts, gone: texts }),
  event('templates', "A backend's templates changed, and its pages reloaded.", { files: texts, pages: z.number().int(), ms }),
  event('backend', 'A backend answers, or does not any more.', {
    backend: z.string(),
    isUp: z.boolean(),
    ms: z.number().optional(),
    awayMs: z.number().optional(),
    code: z.string().optional(),
  }),
  event('exchange', 'A forwarded request has ended.', {
    rule: z.string(),
    backend: z.string(),
    method: z.string(),
    target: z.string(),
    status: z.number().int().optional(),
    failure: z.string().optional(),
    isReplayed: z.boolean().optional(),
    headMs: z.number().optional(),
    ms,
    size: z.number().int().describe('Bytes of the body.'),
  }),
  event('joined', 'A page is open.', page),
  event('left', 'A page is closed.', page),
  event('error', 'A page threw an error that nothing caught.', { ...page, problem }),
  event('console', 'A page printed something.', { ...page, level: z.string(), text: z.string(), place: z.string().optional() }),
  event('types', 'Types were checked.', { problems: z.array(problem), ms }),
  event('command', 'A program alongside starts, is ready, or ends.', {
    name: z.string(),
    state: z.enum(['starts', 'ready', 'ended', 'failed']),
    command: z.string().optional(),
    why: z.string().optional(),
    hint: z.string().optional(),
    ms: z.number().optional(),
    inspect: z.string().optional(),
    isOther: z.boolean().optional(),
    ready: z.string().optional(),
    code: z.number().int().nullable().optional(),
    signal: z.string().nullable().optional(),
    restartMs: z.number().optional(),
  }),
  event('output', 'A program alongside printed a line.', {
    name: z.string(),
    stream: z.enum(['stdout', 'stderr']),
    text: z.string(),
  }),
  event('progress', 'How far a start is.', { done: z.number().int(), known: z.number().int(), reading: z.string().optional() }),
]);
