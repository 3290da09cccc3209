/** Pieces on their way, by URL, so that two imports of one module load it once. */
const loading = new Map<string, Promise<void>>();

/** URLs of the pieces that were asked for beside those in the page. */
export const loadedPieces = new Set<string>();

/** Loads a piece as a script. Rejects where the server can't give it; a later call tries again. */
export function loadPiece(url: string): Promise<void> {
  const known = loading.get(url);
  if (known) return known;
  const promise = loadScript(url).then(
    () => void loadedPieces.add(url),
    (error: unknown) => {
      loading.delete(url);
      throw error;
    },
  );
  loading.set(url, promise);
  return promise;
}

/** Runs a script from a URL. */
export function loadScript(url: string): Promise<void> {
  // A worker has no document; there, a script can be loaded as a module that exports nothing.
  if (typeof document === 'undefined') return import(url).then(() => undefined);
  return new Promise((resolve, reject) => {
    const script = document.createElement('script');
    script.src = url;
    script.onload = () => {
      script.remove();
      resolve();
    };
    script.onerror = () => {
      script.remove();
      reject(new TypeError(`Failed to fetch dynamically imported module: ${url}`));
    };
    document.head.append(script);
  });
}
