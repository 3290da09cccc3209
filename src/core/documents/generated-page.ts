import { escapeHtml } from '../tool-page.js';

/** What a page without a file of its own consists of. */
export interface GeneratedPage {
  /** Paths of module scripts from the project's folder. */
  scripts: readonly string[];
  title: string;
  /** Id of the element that the scripts fill; none where they make their own. */
  mount?: string | undefined;
  /** A language tag (BCP 47). */
  language?: string | undefined;
}

/** The HTML of a page that has no file. */
export function generatedHtml({ scripts, title, mount, language }: GeneratedPage): string {
  const tags = scripts.map((path) => `    <script type="module" src="${escapeHtml(rooted(path))}"></script>\n`).join('');
  return `<!doctype html>
<html${language === undefined ? '' : ` lang="${escapeHtml(language)}"`}>
  <head>
    <meta charset="utf-8">
    <meta name="viewport" content="width=device-width, initial-scale=1">
    <title>${escapeHtml(title)}</title>
${tags}  </head>
  <body>
${mount === undefined ? '' : `    <div id="${escapeHtml(mount)}"></div>\n`}  </body>
</html>
`;
}

function rooted(path: string): string {
  return `/${path.replace(/^(?:\.?\/)+/, '')}`;
}
