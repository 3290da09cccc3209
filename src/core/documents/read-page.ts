import { type DefaultTreeAdapterTypes, html as htmlNames, parse, parseFragment, type Token } from 'parse5';
import { escapeHtml } from '../tool-page.js';
import { readStyle, type StyleReference } from './read-style.js';

/** Offsets in the page's text. */
export interface Span {
  start: number;
  end: number;
}

/** An attribute as it's written. */
export interface Attribute {
  name: string;
  value: string;
}

/** What a page asks for, with the places to change when it is served. */
export interface PageParts {
  /** Module scripts in document order; `specifier` is their `src`, `text` the content of an inline one. */
  scripts: {
    element: Span;
    attributes: Attribute[];
    specifier?: string;
    text?: string;
    textStart?: number;
    /** It stands in a shadow root, where no script knows which one it is (`document.currentScript`). */
    isInShadow?: boolean;
  }[];
  /** Scripts that are no modules, by path; `isInert` for those in templates. */
  classic: {
    element: Span;
    attributes: Attribute[];
    attribute: Span;
    specifier: string;
    isInert?: true;
    isInShadow?: boolean;
  }[];
  /** Modules that scripts in templates name. */
  inert: string[];
  /** The texts of those that stand in the page. */
  classicTexts: string[];
  /** Elements that only make sense for modules loaded one by one. */
  dropped: Span[];
  /** `imports` of import maps, the first definition of a name first (HTML Living Standard, 8.1.6.2). */
  importMap: Record<string, string>;
  /** The `href` of `<base>`. */
  baseHref?: string;
  /** Style elements of ours may stand in it: no policy of its own forbids them, and no `<base>` moves what they refer to. */
  allowsStyleElements: boolean;
  /** `srcset` attributes. */
  sets: { attribute: Span; name: string; value: string }[];
  /**
   * Style sheets that the page links. `isApart`: it doesn't stand for what a module imports, since it's in a template or a shadow root,
   * which are not the document, or is linked under conditions.
   */
  styles: { element: Span; attribute: Span; specifier: string; isApart: boolean }[];
  /** Other attributes with the path of a file: images, icons, media. */
  files: { attribute: Span; name: string; specifier: string }[];
  /** Links to what may be a file to open or to keep, or another page, and pictures for those who show a link to the page. */
  links: { attribute: Span; name: string; specifier: string }[];
  /** Style elements and attributes that name files or sheets: their CSS, and where in `place` that stands or what it's the value of. */
  css: { place: Span; isAttribute: boolean; text: string; references: readonly StyleReference[]; isApart: boolean }[];
  /** Where elements for the start of the head go. */
  headStart: number;
  /** Where elements for the end of the head go. */
  headEnd: number;
  /** Where elements for the end of the body go. */
  bodyEnd: number;
  title: string;
}

const elsewhere = /^(?:[a-z][a-z0-9+.-]*:|\/\/|#)/i;
const linkedFiles = new Set(['icon', 'apple-touch-icon', 'mask-icon', 'manifest', 'preload', 'prefetch']);
/** What a `<meta>` names that holds the path of a picture or the like. */
const picturesOf = /^(?:(?:og|twitter):(?:image|video|audio)(?::(?:url|secure_url|src))?|msapplication-.*(?:logo|image))$/i;
const svgFile = ['href', 'xlink:href'];
const fileAttributes: Record<string, string[]> = {
  img: ['src'],
  source: ['src'],
  video: ['src', 'poster'],
  audio: ['src'],
  track: ['src'],
  input: ['src'],
  embed: ['src'],
  object: ['data'],
  image: svgFile,
  use: svgFile,
  feImage: svgFile,
};

/** Finds scripts, style sheets and files in an HTML page (HTML Living Standard, 13.2 parsing). */
export function readPage(html: string): PageParts {
  const document = parse(html, { sourceCodeLocationInfo: true });
  const parts: PageParts = {
    scripts: [],
    inert: [],
    classicTexts: [],
    classic: [],
    dropped: [],
    allowsStyleElements: true,
    importMap: {},
    sets: [],
    styles: [],
    files: [],
    links: [],
    css: [],
    headStart: 0,
    headEnd: 0,
    bodyEnd: html.length,
    title: '',
  };
  for (const { element, isInert, isInShadow } of elementsOf(document, html)) {
    if (isInert && onlyInPage.has(element.tagName)) takeInert(element, parts);
    else takeElement(element, parts, { isInert, isInShadow });
    takeStyles(element, parts, html, isInert || isInShadow);
  }
  const { start, end } = headOf(document);
  parts.headStart = start;
  parts.headEnd = end;
  parts.bodyEnd = bodyEndOf(document, html);
  return parts;
}

type Element = DefaultTreeAdapterTypes.Element;

/** `isInert`: it stands in a template, and is no part of the page (HTML Living Standard, 4.12.3) unless a script makes it one. */
interface Place {
  isInert: boolean;
  /** It stands in a shadow root. */
  isInShadow: boolean;
}

interface Found extends Place {
  element: Element;
}

/** Elements that mean nothing in a template. */
const onlyInPage = new Set(['script', 'base', 'meta', 'title']);

const inDocument: Place = { isInert: false, isInShadow: false };

function* elementsOf(node: DefaultTreeAdapterTypes.ParentNode, html: string, place = inDocument): Generator<Found> {
  for (const child of node.childNodes) {
    if ('tagName' in child) yield { element: child, ...place };
    // To a browser that runs scripts it's text.
    if (child.nodeName === 'noscript') yield* elementsOfText(child as Element, html, place);
    else if ('childNodes' in child) yield* elementsOf(child, html, place);
    if (!('content' in child)) continue;
    // Of a declarative shadow root it's the content (4.12.3.1).
    const isShadow = child.attrs.some(({ name }) => name === 'shadowrootmode');
    yield* elementsOf(child.content, html, {
      isInert: place.isInert || !isShadow,
      isInShadow: place.isInShadow || isShadow,
    });
  }
}

/** The elements that stand in the text of another one, with their places in the page. */
function* elementsOfText({ sourceCodeLocation: around }: Element, html: string, where: Place): Generator<Found> {
  if (!around?.startTag || !around.endTag) return;
  const offset = around.startTag.endOffset;
  const inside = html.slice(offset, around.endTag.startOffset);
  for (const { element } of elementsOf(parseFragment(inside, { sourceCodeLocationInfo: true }), inside)) {
    const { sourceCodeLocation: place, tagName } = element;
    if (!place || tagName === 'script') continue;
    for (const span of [place, place.startTag, place.endTag, ...Object.values(place.attrs ?? {})]) moveBy(span, offset);
    yield { element, ...where };
  }
}

function moveBy(span: Token.Location | undefined, offset: number): void {
  if (!span) return;
  span.startOffset += offset;
  span.endOffset += offset;
}

function takeElement(element: Element, parts: PageParts, { isInert, isInShadow }: Place): void {
  const location = element.sourceCodeLocation;
  if (!location) return;
  const attributes = new Map(element.attrs.map(({ name, prefix, value }) => [prefix ? `${prefix}:${name}` : name, value]));
  const span = (name: string): Span => {
    const { startOffset, endOffset } = location.attrs![name]!;
    return { start: startOffset, end: endOffset };
  };
  const whole = { start: location.startOffset, end: location.endOffset };
  const local = (name: string) => {
    const value = attributes.get(name)?.trim();
    return value && !elsewhere.test(value) ? value : undefined;
  };
  if (element.tagName === 'title' && element.namespaceURI === htmlNames.NS.HTML) parts.title ||= textOf(element).text;
  else if (element.tagName === 'base' && attributes.has('href')) {
    parts.baseHref ??= attributes.get('href')!;
    parts.allowsStyleElements = false;
  } else if (element.tagName === 'meta') {
    if (forbidsStyleElements(attributes)) parts.allowsStyleElements = false;
  } else if (element.tagName === 'script' && attributes.get('type')?.trim().toLowerCase() === 'importmap') {
    parts.dropped.push(whole);
    parts.importMap = { ...readImportMap(textOf(element).text), ...parts.importMap };
  } else if (element.tagName === 'script' && attributes.get('type')?.trim().toLowerCase() === 'module') {
    const specifier = local('src');
    const script = { element: whole, attributes: element.attrs, ...(isInShadow ? { isInShadow } : {}) };
    if (specifier) parts.scripts.push({ ...script, specifier });
    else if (!attributes.has('src')) parts.scripts.push({ ...script, ...textOf(element) });
  } else if (element.tagName === 'script' && isJavaScript(attributes.get('type')) && local('src')) {
    const place = isInShadow ? { isInShadow } : {};
    parts.classic.push({ element: whole, attributes: element.attrs, attribute: span('src'), specifier: local('src')!, ...place });
  } else if (element.tagName === 'script' && isJavaScript(attributes.get('type')) && !attributes.has('src'))
    parts.classicTexts.push(textOf(element).text);
  else if (element.tagName === 'link' && local('href')) {
    const relations = (attributes.get('rel') ?? '').toLowerCase().split(/\s+/);
    if (relations.includes('stylesheet'))
      parts.styles.push({
        element: whole,
        attribute: span('href'),
        specifier: local('href')!,
        isApart:
          isInert ||
          isInShadow ||
          isConditional(attributes.get('media')) ||
          attributes.has('disabled') ||
          relations.includes('alternate'),
      });
    else if (relations.includes('modulepreload')) parts.dropped.push(whole);
    else if (relations.some((relation) => linkedFiles.has(relation)))
      parts.files.push({ attribute: span('href'), name: 'href', specifier: local('href')! });
  }
  if ((element.tagName === 'a' || element.tagName === 'area') && local('href'))
    parts.links.push({ attribute: span('href'), name: 'href', specifier: local('href')! });
  const about = attributes.get('property') ?? attributes.get('name') ?? '';
  if (element.tagName === 'meta' && picturesOf.test(about) && local('content'))
    parts.links.push({ attribute: span('content'), name: 'content', specifier: local('content')! });
  for (const name of ['srcset', 'imagesrcset'])
    if (attributes.has(name)) parts.sets.push({ attribute: span(name), name, value: attributes.get(name)! });
  for (const name of fileAttributes[element.tagName] ?? []) {
    const specifier = local(name);
    if (specifier) parts.files.push({ attribute: span(name), name, specifier });
  }
}

/** A script in a template: the files that it names are there for whoever uses that, but for modules, which are only noted. */
function takeInert(element: Element, parts: PageParts): void {
  if (element.tagName !== 'script') return;
  const written = (name: string) => element.attrs.find((attribute) => attribute.name === name)?.value.trim();
  const src = written('src');
  const type = written('type');
  const place = element.sourceCodeLocation?.attrs?.src;
  if (type?.toLowerCase() === 'module') {
    const imported = /\b(?:from|import)\b\s*\(?\s*['"`]([^'"`]+)/.exec(textOf(element).text)?.[1];
    const specifier = src ?? imported;
    if (specifier && !elsewhere.test(specifier)) parts.inert.push(specifier);
  } else if (place && src && !elsewhere.test(src) && isJavaScript(type)) {
    const { startOffset: start, endOffset: end } = place;
    const whole = { start: element.sourceCodeLocation!.startOffset, end: element.sourceCodeLocation!.endOffset };
    parts.classic.push({ element: whole, attributes: element.attrs, attribute: { start, end }, specifier: src, isInert: true });
  }
}

/** What a style element or attribute names. What is no CSS is left to the browser. */
function takeStyles(element: Element, parts: PageParts, html: string, isElsewhere: boolean): void {
  const location = element.sourceCodeLocation;
  // These are replaced as a whole, or never shown.
  if (element.tagName === 'script' || element.tagName === 'link') return;
  const style = element.attrs.find(({ name }) => name === 'style');
  const isApart = isElsewhere || isConditional(element.attrs.find(({ name }) => name === 'media')?.value);
  const take = (place: Span, text: string, isAttribute: boolean) => {
    if (!/url\(|image-set\(|@import\b/i.test(text)) return;
    const read = readStyle(text, '');
    if ('references' in read && read.references.length > 0)
      parts.css.push({ place, isAttribute, text, references: read.references, isApart });
  };
  if (style && location?.attrs?.style)
    take({ start: location.attrs.style.startOffset, end: location.attrs.style.endOffset }, style.value, true);
  if (element.tagName !== 'style' || !location?.startTag || !location.endTag) return;
  const place = { start: location.startTag.endOffset, end: location.endTag.startOffset };
  take(place, html.slice(place.start, place.end), false);
}

/** The files that a page names, with where. */
export function filesNamed({ classic, files, css }: PageParts): { specifier: string; start: number }[] {
  const named = [...classic, ...files].map(({ specifier, attribute }) => ({ specifier, start: attribute.start }));
  const inCss = css.flatMap(({ place, references }) =>
    references.filter(({ kind }) => kind === 'file').map(({ specifier }) => ({ specifier, start: place.start })),
  );
  return [...named, ...inCss];
}

/** Whether a link or a style element may not count, for its `media`. */
function isConditional(media = ''): boolean {
  return !/^\s*(?:all\s*)?$/i.test(media);
}

/** Whether a policy in the page forbids style elements without a nonce or hash (Content Security Policy Level 3, 6.6.3). */
function forbidsStyleElements(attributes: ReadonlyMap<string, string>): boolean {
  if (attributes.get('http-equiv')?.trim().toLowerCase() !== 'content-security-policy') return false;
  const directives = (attributes.get('content') ?? '').split(';').map((directive) => directive.trim().toLowerCase().split(/\s+/));
  const ofName = (name: string) => directives.find(([first]) => first === name);
  const sources = ofName('style-src-elem') ?? ofName('style-src') ?? ofName('default-src');
  return (
    sources !== undefined &&
    (!sources.includes("'unsafe-inline'") || sources.some((source) => /^'(?:nonce|sha\d+)-/.test(source)))
  );
}

/** Script types that mean JavaScript (HTML Living Standard, 4.12.1). */
function isJavaScript(type: string | undefined): boolean {
  return type === undefined || type.trim() === '' || /^(?:text|application)\/(?:x-)?(?:java|ecma)script$/i.test(type.trim());
}

function readImportMap(text: string): Record<string, string> {
  try {
    const { imports } = JSON.parse(text) as { imports?: Record<string, string> };
    return imports ?? {};
  } catch {
    return {}; // browsers ignore a map that they can't parse, and say so in the console
  }
}

function textOf(element: Element): { text: string; textStart: number } {
  const [child] = element.childNodes;
  if (!child || !('value' in child)) return { text: '', textStart: element.sourceCodeLocation?.startTag?.endOffset ?? 0 };
  return { text: child.value, textStart: child.sourceCodeLocation?.startOffset ?? 0 };
}

/** The head's content, or where the parser would open one: before the first element that isn't `<html>`. */
function headOf(document: DefaultTreeAdapterTypes.Document): Span {
  const root = document.childNodes.find((node): node is Element => 'tagName' in node && node.tagName === 'html');
  const head = root?.childNodes.find((node): node is Element => 'tagName' in node && node.tagName === 'head');
  const location = head?.sourceCodeLocation;
  if (location?.startTag) {
    return { start: location.startTag.endOffset, end: location.endTag?.startOffset ?? location.endOffset };
  }
  const afterRoot = root?.sourceCodeLocation?.startTag?.endOffset;
  const doctype = document.childNodes.find(({ nodeName }) => nodeName === '#documentType');
  const start = afterRoot ?? doctype?.sourceCodeLocation?.endOffset ?? 0;
  const children = head?.childNodes.filter((node) => node.sourceCodeLocation);
  return { start, end: Math.max(start, children?.at(-1)?.sourceCodeLocation?.endOffset ?? start) };
}

/** Where the body's end tag is, or else the end of `<html>` or of the page. */
function bodyEndOf(document: DefaultTreeAdapterTypes.Document, html: string): number {
  const named = (nodes: readonly DefaultTreeAdapterTypes.ChildNode[], name: string) =>
    nodes.find((node): node is Element => 'tagName' in node && node.tagName === name);
  const root = named(document.childNodes, 'html');
  const body = root && named(root.childNodes, 'body');
  return (body ?? root)?.sourceCodeLocation?.endTag?.startOffset ?? root?.sourceCodeLocation?.endTag?.startOffset ?? html.length;
}

/** What scripts in the place of another keep of its attributes: those that say how it's fetched and whether it may run … */
const onAll = new Set(['nonce', 'crossorigin', 'referrerpolicy', 'fetchpriority', 'blocking']);
/** … but not those that say what it is, or when it runs, which others say now. */
const onNone = new Set(['src', 'type', 'integrity', 'defer', 'async', 'charset', 'nomodule', 'language', 'for', 'event']);

/**
 * The attributes of scripts that take the place of a module script, as text to stand behind others: `all` for each of them, `own` also
 * for the one that runs the module.
 */
export function keptAttributes(attributes: readonly Attribute[]): { all: string; own: string } {
  const text = ({ name, value }: Attribute) => ` ${name}${value === '' ? '' : `="${escapeHtml(value)}"`}`;
  // Events of loading are of scripts with a file of their own (HTML Living Standard, 4.12.1.1).
  const hasFile = attributes.some(({ name }) => name === 'src');
  const isKept = ({ name }: Attribute) => !onAll.has(name) && !onNone.has(name) && (hasFile || !/^on(?:load|error)$/.test(name));
  const all = attributes.filter(({ name }) => onAll.has(name)).map(text);
  const own = attributes.filter(isKept).map(text);
  return { all: all.join(''), own: [...all, ...own].join('') };
}
