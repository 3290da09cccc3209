import { basename, extname } from 'node:path/posix';
import { isAssetPath } from '../file-kinds.js';

/** Data and documents that pages fetch by their paths, beside images, fonts and media. */
const dataExtensions = new Set(
  '.json .jsonl .ndjson .geojson .topojson .csv .tsv .xml .txt .md .rss .atom .ics .vcf .kml .gpx .bin .dat .wasm'.split(' '),
);

/** Files of those types that describe a project, a machine or an account: nothing for a page. */
const noContent = [
  /^(?:package|package-lock|npm-shrinkwrap|deno|composer|pom)\.(?:json|xml)$/i,
  /(?:^|[-_.])lock\.json$/i,
  /^[tj]sconfig(?:[-_.].*)?\.json$/i,
  /(?:[-_.](?:config|conf|settings|options)|rc)\.(?:json|xml|txt)$/i,
  /^(?:config|settings|appsettings|launch|tasks)(?:[-_.].*)?\.(?:json|xml)$/i,
  /(?:^|[-_.])(?:secrets?|credentials?|passwords?|tokens?|private|service-?account|client[-_]secret)(?:[-_.].*)?\.\w+$/i,
];

/**
 * Whether a file of the project may be sent because a page asks for it by its path, though no module names it: what a plain
 * file server is there for, and nothing that tells how the project is built or run.
 */
export function isWebContent(path: string): boolean {
  const name = basename(path);
  if (!isAssetPath(name) && !dataExtensions.has(extname(name).toLowerCase())) return false;
  return !noContent.some((pattern) => pattern.test(name));
}
