import type { Reporter } from './report/reporter.js';

/** Opens a URL in the user's browser. That this fails is told and harms nothing. */
export async function openBrowser(url: string, reporter: Reporter): Promise<void> {
  try {
    const child = await (await import('open')).default(url);
    child.on('error', (error) => reporter.tell({ event: 'note', text: `no browser could be opened: ${error.message}` }));
  } catch (error) {
    reporter.tell({
      event: 'note',
      text: `no browser could be opened: ${error instanceof Error ? error.message : String(error)}`,
    });
  }
}
