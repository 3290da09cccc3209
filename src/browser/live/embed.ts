import { embeddedPageId, ownUrl } from '../../core/urls.js';
import { frontEndBase, isElsewhere, ours } from '../runtime/base-path.js';
import { ownNonce } from '../runtime/load-script.js';
import type { LiveClient } from './client.js';

/** What a page of a backend needs for the modules that a tag names, as the server says it. URLs are paths of ours. */
export interface Shown {
  /** Attributes of links to style sheets. */
  links: Record<string, string>[];
  /** URLs of scripts in the order in which they run. */
  scripts: string[];
}

/** Says of a script that the parser put it where it is, so that what is written follows it. */
const written = 'data-spark-written';

/** Brings modules into a page that a backend renders, as its tags name them. */
export class Embedding {
  readonly #client: LiveClient;
  readonly #entries: string[] = [];

  constructor(client: LiveClient) {
    this.#client = client;
  }

  /** Starts what a tag names in `data-entry`, or `given`: paths of modules from the project's folder. */
  start(tag: HTMLScriptElement | null, given?: readonly string[]): void {
    const entries = given ?? (tag?.dataset.entry ?? '').split(/[\s,]+/).filter((name) => name !== '');
    const fresh = entries.map((name) => name.replace(/^(?:\.?\/)+/, '')).filter((id) => !this.#entries.includes(id));
    if (entries.length === 0)
      console.error('Vine Spark: the tag names nothing to start. Write the path of a module: data-entry="src/berths.tsx"');
    if (fresh.length === 0) return;
    this.#entries.push(...fresh);
    this.#client.follow(embeddedPageId(this.#entries));
    const src = ours(ownUrl.embed(frontEndBase(), embeddedPageId(fresh)));
    const isParsed = tag !== null && tag === document.currentScript && isInParser(tag);
    if (isParsed) document.write(scriptTag(src, ` ${written}`));
    else document.head.append(scriptElement(src));
  }

  /** Puts links and scripts in: where the parser is at the tag, they are parsed as if they stood there. */
  show({ links, scripts }: Shown): void {
    const tag = document.currentScript as HTMLScriptElement | null;
    const own = links.map((attributes) => ({ ...attributes, href: ours(attributes.href!) }));
    if (tag?.hasAttribute(written) && document.readyState === 'loading') {
      document.write(own.map(linkTag).join('') + scripts.map((url) => scriptTag(ours(url), ' defer')).join(''));
      return;
    }
    const elements = own.map(linkElement);
    const loaded = elements.map(
      (link) =>
        new Promise<void>((resolve) => {
          link.onload = link.onerror = () => resolve();
        }),
    );
    document.head.append(...elements);
    void Promise.all([...loaded, parsed()]).then(() => {
      for (const url of scripts) document.head.append(scriptElement(ours(url)));
    });
  }
}

/** Whether the parser waits for a script. */
function isInParser(tag: HTMLScriptElement): boolean {
  return document.readyState === 'loading' && !tag.async && !tag.defer;
}

/** Settles when the page is parsed: what module scripts wait for. */
function parsed(): Promise<void> {
  if (document.readyState !== 'loading') return Promise.resolve();
  return new Promise((resolve) => document.addEventListener('readystatechange', () => resolve(), { once: true }));
}

function scriptElement(src: string): HTMLScriptElement {
  const script = document.createElement('script');
  script.async = false;
  script.nonce = ownNonce;
  if (isElsewhere()) script.crossOrigin = 'anonymous';
  script.src = src;
  return script;
}

function linkElement(attributes: Record<string, string>): HTMLLinkElement {
  const link = document.createElement('link');
  link.nonce = ownNonce;
  for (const [name, value] of Object.entries(attributes)) link.setAttribute(name, value);
  return link;
}

function scriptTag(src: string, attributes: string): string {
  return `<script src="${escaped(src)}"${attributes}${extra()}></${'script'}>`;
}

function linkTag(attributes: Record<string, string>): string {
  const text = Object.entries(attributes).map(([name, value]) => ` ${name}="${escaped(value)}"`);
  return `<link${text.join('')}${ownNonce === '' ? '' : ` nonce="${escaped(ownNonce)}"`}>`;
}

/** What a security policy, and browsers for a script of another origin, ask for. */
function extra(): string {
  return `${ownNonce === '' ? '' : ` nonce="${escaped(ownNonce)}"`}${isElsewhere() ? ' crossorigin="anonymous"' : ''}`;
}

function escaped(text: string): string {
  return text.replace(/&/g, '&amp;').replace(/"/g, '&quot;').replace(/</g, '&lt;');
}
