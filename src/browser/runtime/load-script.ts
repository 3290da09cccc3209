/** Runs a script from a URL. */
export function loadScript(url: string): Promise<void> {
  // A worker has no document; there, a script can be loaded as a module that exports nothing.
  if (typeof document === 'undefined') return import(url).then(() => undefined);
  return new Promise((resolve, reject) => {
    const script = document.createElement('script');
    // Whatever the page's encoding is.
    script.charset = 'utf-8';
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
