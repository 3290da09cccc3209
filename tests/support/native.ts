import { spawn } from 'node:child_process';
import { createReadStream, existsSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { join } from 'node:path';
import { createInterface } from 'node:readline';
import type { Page } from 'playwright-core';

/** What a page of programs loads first: collects what each program says. */
export const recorder = `const out = {}, ended = new Set();
function logOf(program) { out[program] = []; return (...parts) => out[program].push(parts.map(String).join(' ')); }
function endOf(program) { return () => setTimeout(() => ended.add(program)); }
`;

/** The page that runs the modules of programs, which stand in folders of their own and call `log_<folder>` and `ended_<folder>`. */
export const programPage = (folders: readonly string[]) =>
  `<!doctype html><script src="/recorder.js"></script>${folders
    .map(
      (folder) =>
        `<script>var log_${folder} = logOf('${folder}'), ended_${folder} = endOf('${folder}');</script><script type="module" src="/${folder}/main.js"></script><script type="module" src="/${folder}/last.js"></script>`,
    )
    .join('\n')}`;

/** A program's text with functions of its own for what it says. */
export const forFolder = (text: string, folder: string) => text.replace(/\b(log|ended)\(/g, `$1_${folder}(`);

/** Serves files as they are: what the browser does natively. */
export async function serveNatively(root: string): Promise<{ url: string; close(): void }> {
  const types: Record<string, string> = { js: 'text/javascript', html: 'text/html', css: 'text/css', json: 'application/json' };
  const server = createServer((request, response) => {
    const file = join(root, decodeURI(request.url!.replace(/\?.*/, '')));
    // Browsers with windows ask for an icon by themselves.
    if (request.url === '/favicon.ico') return response.writeHead(204).end();
    if (!existsSync(file)) return response.writeHead(404).end();
    response.setHeader('content-type', types[file.split('.').at(-1)!] ?? 'text/plain');
    createReadStream(file).pipe(response);
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  return { url: `http://127.0.0.1:${(server.address() as AddressInfo).port}/`, close: () => server.close() };
}

/** What the programs in the page at `url` say, by folder. */
export async function outputOf(page: Page, url: string, folders: readonly string[]): Promise<Record<string, string[]>> {
  await page.goto(url);
  await page
    .waitForFunction(`ended.size === ${folders.length}`, undefined, { timeout: 8000, polling: 20 })
    .catch(() => undefined);
  return (await page.evaluate('out')) as Record<string, string[]>;
}

/**
 * What programs say in Node.js, by folder. Some make Node.js itself abort (a failed check on modules that import
 * themselves and await): those are left out, and the rest goes on in a new process.
 */
export async function outputsInNode(root: string, folders: readonly string[]): Promise<Map<string, string[]>> {
  const runner = join(root, 'run-in-node.mjs');
  writeFileSync(
    runner,
    `let out, done;
for (const folder of process.argv.slice(2)) {
  globalThis['log_' + folder] = (...parts) => out.push(parts.map(String).join(' '));
  globalThis['ended_' + folder] = () => setTimeout(() => done());
  out = [];
  const end = new Promise((resolve) => { done = resolve; });
  const main = import('./' + folder + '/main.js').catch(() => {});
  await Promise.race([main, new Promise((resolve) => setTimeout(resolve, 200))]);
  import('./' + folder + '/last.js').catch((error) => { out.push('error ' + error.name); done(); });
  let timer; await Promise.race([end, new Promise((resolve) => { timer = setTimeout(() => { out.push('did not end'); resolve(); }, 5000); })]); clearTimeout(timer);
  console.log(JSON.stringify([folder, out]));
}
process.exit(0);`,
  );
  const outputs = new Map<string, string[]>();
  for (let rest = folders; rest.length > 0; ) {
    const child = spawn(process.execPath, [runner, ...rest], {
      env: { ...process.env, NODE_OPTIONS: '' },
      stdio: ['ignore', 'pipe', 'ignore'],
    });
    let last = '';
    for await (const line of createInterface({ input: child.stdout })) {
      const [folder, out] = JSON.parse(line) as [string, string[]];
      outputs.set(folder, out);
      last = folder;
    }
    rest = rest.slice(rest.indexOf(last) + 2);
  }
  return outputs;
}
