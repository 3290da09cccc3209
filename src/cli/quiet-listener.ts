import type { ReadingListener } from '../project/project-graph.js';

/** For commands that read a project once and tell what they find themselves. */
export const quietListener: ReadingListener = {
  changes: { added() {}, dropped() {} },
  onRead() {},
  onWarning() {},
  onNote() {},
  turn: () => undefined,
};
