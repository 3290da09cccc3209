import { refusedLine } from '../../core/link/compiles.js';
import type {
  ConsoleMessage,
  DirectCallMessage,
  PageErrorMessage,
  PageMessage,
  ResumeMessage,
} from '../../core/live/messages.js';
import { type Problem, problemAt } from '../../core/problem/problem.js';
import { lineStarts } from '../../core/text/line-index.js';
import type { CompiledRule } from '../../forward/rule.js';
import type { Project } from '../../project/project.js';
import type { KeptAnswers } from '../pieces/kept-answers.js';
import { mapError, readStack, type StackFrame } from '../pieces/map-stack.js';
import type { PieceStore } from '../pieces/piece-store.js';
import { explainDirectCall } from './direct-calls.js';
import type { LiveChannel, LivePage } from './live-channel.js';
import { resume } from './resume.js';

/** What is served at the moment. */
export interface Shown {
  project: Project;
  pieces: PieceStore;
  answers: KeptAnswers;
  rules: readonly CompiledRule[];
}

export interface PageReportsOptions {
  live: LiveChannel;
  shown(): Shown;
  /** An error of a page, with the user's own positions. */
  onError(from: LivePage, problem: Problem): void;
  /** A call that goes past us; each is told once. */
  onDirectCall(problem: Problem): void;
  /** Something that a page printed; `place` is the user's file and line that did. */
  onPrinted(printed: { from: LivePage; level: ConsoleMessage['level']; text: string; place?: string }): void;
}

/** What pages report of themselves, brought to the places of the user's sources. */
export class PageReports {
  readonly #options: PageReportsOptions;

  constructor(options: PageReportsOptions) {
    this.#options = options;
  }

  async take(from: LivePage, message: PageMessage): Promise<void> {
    if (message.type === 'error') return this.error(from, message);
    if (message.type === 'resume') return this.#resume(from, message);
    if (message.type === 'direct-call') return this.#directCall(from, message);
    if (message.type === 'console') return this.#printed(from, message);
  }

  /** An error that nothing in a page caught, at its place in the user's source. */
  async error(from: LivePage, message: PageErrorMessage): Promise<void> {
    const { live, shown, onError } = this.#options;
    await shown().answers.checked();
    const { pieces } = shown();
    const mapped = await mapError(message, (frame) => pieces.originOf(frame, message.pieces));
    const problem = message.file === undefined ? mapped : { ...this.#refusedPlace(message.file), ...mapped };
    onError(from, problem);
    // What fails later is the application's own business; a page that an update broke, or that stays empty, must say so.
    live.send(from, { type: 'failed', problem, isShown: message.during !== 'life' });
  }

  /** A page of an earlier run asks whether what it shows is still true. */
  async #resume(from: LivePage, message: ResumeMessage): Promise<void> {
    const { live, shown } = this.#options;
    live.send(from, await resume(shown().project, message, () => live.revisionOf(from)));
  }

  /** A page called another origin of this machine: what that comes to, at its place in the user's source. */
  async #directCall(from: LivePage, message: DirectCallMessage): Promise<void> {
    const { live, shown, onDirectCall } = this.#options;
    await shown().answers.checked();
    const { pieces, rules } = shown();
    const originOf = (frame: StackFrame) => pieces.originOf(frame, message.pieces);
    const problem = await explainDirectCall(message, { rules, originOf });
    if (!problem) return;
    live.send(from, { type: 'told', problem });
    onDirectCall(problem);
  }

  async #printed(from: LivePage, { level, text, stack, pieces }: ConsoleMessage): Promise<void> {
    const { shown, onPrinted } = this.#options;
    await shown().answers.checked();
    let place: string | undefined;
    for (const frame of readStack(stack)) {
      const origin = await shown().pieces.originOf(frame, pieces);
      if (!origin) continue;
      place = `${origin.file}:${origin.line}`;
      break;
    }
    onPrinted({ from, level, text, ...(place === undefined ? {} : { place }) });
  }

  /** Where an engine can't parse a module: the place is known where ours can't either. */
  #refusedPlace(id: string): Partial<Problem> {
    const content = this.#options.shown().project.graph.content(id);
    if (content?.kind !== 'script') return {};
    const hint = 'The page goes on without this module. Another form of what stands there may run in this browser.';
    const line = refusedLine(content.linked.code);
    const text = content.source.text;
    const start = line === undefined ? undefined : lineStarts(text)[Math.max(0, line - 2)];
    return start === undefined
      ? { file: id, hint }
      : { ...problemAt({ file: id, text, start }, { code: 'run-error', message: '' }), hint };
  }
}
