/** The part of the global hook that React tells of its roots by, in development. */
export interface ReactHook {
  inject(renderer: Renderer): number;
  onScheduleFiberRoot?(id: number, root: Root, element: unknown): void;
}

interface Renderer {
  /** Renders an element in a root at once. */
  scheduleRoot?(root: Root, element: unknown): void;
}

interface Root {
  /** Work that waits, as bits; React 17 and newer. */
  pendingLanes?: number;
}

const renderers = new Map<number, Renderer>();
/** What was last rendered in each root, and by which renderer. */
const roots = new Map<Root, { id: number; element: unknown }>();

/** Takes down which roots there are. Must happen before React itself runs. A hook that somebody has closed tells nothing. */
export function watchRoots(hook: ReactHook | undefined): void {
  if (typeof hook?.inject !== 'function' || Object.isFrozen(hook)) return;
  const { inject, onScheduleFiberRoot } = hook;
  hook.inject = (renderer) => {
    const id = inject.call(hook, renderer);
    renderers.set(id, renderer);
    return id;
  };
  hook.onScheduleFiberRoot = (id, root, element) => {
    if (element === null || element === undefined) roots.delete(root);
    else roots.set(root, { id, element });
    onScheduleFiberRoot?.call(hook, id, root, element);
  };
}

/**
 * Lets React begin anew with what it has rendered and not shown yet, such as a lazy component whose fallback has to stay for a
 * while: a refresh only reaches components that are shown, and what waits would come with the old ones.
 */
export function redoPending(): void {
  for (const [root, { id, element }] of roots) if (root.pendingLanes !== 0) renderers.get(id)?.scheduleRoot?.(root, element);
}
