import { afterAll, afterEach, beforeAll } from '@jest/globals';
import type { Browser, Page } from 'playwright-core';
import { launchBrowser, openPage, type WatchedPage } from './browser.js';
import { Program, type ProgramEvent } from './program.js';
import { Workspace } from './workspace.js';

/** A project that is served for one test, with a page of it open. Ends with the test. */
export class ServedPage {
  browser!: Browser;
  workspace!: Workspace;
  program!: Program;
  #watched: WatchedPage | undefined;

  /** To be made at the top of a test file; each test calls `start`. */
  constructor() {
    beforeAll(async () => {
      this.browser = await launchBrowser();
    });
    afterAll(() => this.browser.close());
    afterEach(() => this.#end());
  }

  async #end(): Promise<void> {
    await this.page.context().close();
    await this.program.stop();
    this.workspace.dispose();
    this.#watched = undefined;
  }

  /** Serves files and opens the page, instead of what was before. Settles when its live channel stands. */
  async start(files: Record<string, string>, args: readonly string[] = ['index.html']): Promise<void> {
    if (this.#watched) await this.#end();
    this.workspace = Workspace.with(files);
    this.program = await Program.serve(this.workspace.root, args);
    this.#watched = await openPage(this.browser, this.program.url);
    await this.program.next('joined');
  }

  get page(): Page {
    return this.#watched!.page;
  }

  /** What the page printed. */
  get console(): readonly string[] {
    return this.#watched!.console;
  }

  /** How often the page was loaded. */
  loads(): number {
    return this.#watched!.loads();
  }

  /** Changes files and waits for what the page makes of it; after a reload, until it's connected again. */
  async change(work: () => void, event: 'applied' | 'reloaded' = 'applied'): Promise<ProgramEvent> {
    const after = this.program.mark;
    work();
    const told = await this.program.next(event, { after });
    if (event === 'reloaded') await this.program.next('joined', { after });
    return told;
  }

  /** Writes files and waits for what the page makes of it. */
  save(files: Record<string, string>, event: 'applied' | 'reloaded' = 'applied'): Promise<ProgramEvent> {
    return this.change(() => this.workspace.write(files), event);
  }
}
