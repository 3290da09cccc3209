import { z } from 'zod';

/** What a page loads, as URLs. */
const page = z.strictObject({
  scripts: z.array(z.string()).describe('URLs of scripts, in the order in which they run.'),
  styles: z.array(z.string()).describe('URLs of style sheets, in the order in which they count.'),
  later: z.array(z.string()).describe('URLs of what import() and workers on the page may bring.'),
  tags: z
    .strictObject({
      styles: z.string().describe('HTML for the head: the links to the style sheets.'),
      scripts: z.string().describe('HTML for the end of the head or the body: the scripts. They are deferred.'),
    })
    .describe('What a backend that renders the page itself puts into it.'),
});

const file = z.strictObject({
  bytes: z.number().int(),
  gzip: z.number().int().optional().describe('Size of scripts and styles when compressed with gzip.'),
  integrity: z.string().optional().describe('Value for integrity attributes, where the settings ask for it.'),
});

/** What a build wrote, for backends that render their own pages. `version` changes with the form. */
export const manifestSchema = z.strictObject({
  builtBy: z.literal('Vine Spark').describe('Tells the file from others of its name.'),
  version: z.literal(1),
  base: z.string().describe('URL prefix of all files.'),
  pages: z.record(z.string(), page).describe("By the page's path in the project."),
  entries: z
    .record(z.string(), page)
    .optional()
    .describe('By the path of a module or sheet that pages of a backend start, as the settings list it.'),
  assets: z.record(z.string(), z.string()).describe('Source -> its file in the output folder.'),
  files: z.record(z.string(), file).describe('Every file that was written, by its path in the output folder.'),
});

export type Manifest = z.infer<typeof manifestSchema>;
export type ManifestPage = z.infer<typeof page>;
export type ManifestFile = z.infer<typeof file>;
