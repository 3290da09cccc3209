const entities: Record<string, string> = { '&': '&amp;', '<': '&lt;', '>': '&gt;', '"': '&quot;', "'": '&#39;' };

/** Text for use in HTML content and quoted attributes. */
export function escapeHtml(text: string): string {
  return text.replace(/[&<>"']/g, (mark) => entities[mark]!);
}

/** The same for pages whose encoding is somebody else's: everything beyond ASCII stands as a reference. */
export function asciiHtml(text: string): string {
  return escapeHtml(text).replace(/[^\0-\x7f]/gu, (mark) => `&#${mark.codePointAt(0)};`);
}

/** Stands in pages that are written beside a project's own, such as the report of a build, and sets them apart. */
export const writtenMark = '<meta name="generator" content="Vine Spark">';

/** A page of the tool's own, e.g. for an error: one sheet in our colours, no script. `body` is HTML. */
export function toolPage({ title, body, refreshSeconds }: { title: string; body: string; refreshSeconds?: number }): string {
  const refresh = refreshSeconds === undefined ? '' : `\n<meta http-equiv="refresh" content="${refreshSeconds}">`;
  return `<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width">${refresh}
<title>${escapeHtml(title)}</title>
<style>
body { margin: 0; background: #f7f4ec; color: #22262a; font: 17px/1.6 system-ui, sans-serif; }
main { max-width: 44rem; margin: 12vh auto 4rem; padding: 0 1.5rem; border-left: 8px solid #1f5d3a; }
h1 { font-size: 1.7rem; line-height: 1.25; margin: 0 0 .8rem; }
h2 { font-size: 1rem; margin: 1.6rem 0 .3rem; color: #1f5d3a; }
ul { margin: .2rem 0; padding-left: 1.2rem; }
code { font: .92em ui-monospace, monospace; background: #ece6d6; border-radius: 3px; padding: .05em .35em; }
a { color: #1f5d3a; }
dl { display: grid; grid-template-columns: max-content 1fr; gap: .2rem 1.2rem; }
dt { color: #5b625e; } dd { margin: 0; }
footer { margin-top: 2.4rem; color: #6d726e; font-size: .85rem; }
</style>
</head>
<body>
<main>
${body}
<footer>Vine Spark</footer>
</main>
</body>
</html>
`;
}
