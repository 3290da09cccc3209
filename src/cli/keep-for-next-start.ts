import type { Project } from '../project/project.js';
import type { VineServer } from '../server/server.js';
import { collectGarbage } from './collect-garbage.js';
import type { Failures } from './staying-alive.js';

/** Keeps, when there is nothing better to do, what the next start can use. */
export function keepForNextStart(project: Project, server: VineServer, failures: Failures): void {
  server
    .prepareMaps()
    .then(() => project.idle())
    .then(() => server.quiet())
    .then(collectGarbage)
    .then(() => server.keepAnswers())
    .catch((error: unknown) => failures.tell('keeping what the next start can use', error));
}
