import { isElsewhere } from './base-path.js';

/** Runs a script from a URL. `integrity` says what its content has to be. */
export function loadScript(url: string, integrity?: string): Promise<void> {
  // A worker has no document; there, a script can be loaded as a module that exports nothing.
  if (typeof document === 'undefined') return import(url).then(() => undefined);
  return new Promise((resolve, reject) => {
    const script = document.createElement('script');
    // Whatever the page's encoding is.
    script.charset = 'utf-8';
    if (integrity !== undefined) script.integrity = integrity;
    // What a policy allows this page to run may load more.
    script.nonce = ownNonce;
    // Otherwise browsers hide what goes wrong in a script of another origin.
    if (isElsewhere()) script.crossOrigin = 'anonymous';
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

/** The nonce of the script that this is. */
export const ownNonce =
  typeof document === 'undefined' ? '' : ((document.currentScript as HTMLScriptElement | null)?.nonce ?? '');
