import { extname } from 'node:path/posix';

/** What a file is to the module graph. `script` is JavaScript or TypeScript; `asset` is a file used by its URL. */
export type FileKind = 'script' | 'style' | 'json' | 'asset';

const kindOfExtension: Record<string, FileKind> = {};
for (const extension of ['.js', '.mjs', '.cjs', '.jsx', '.ts', '.mts', '.cts', '.tsx']) kindOfExtension[extension] = 'script';
for (const extension of ['.css', '.scss', '.sass']) kindOfExtension[extension] = 'style';
kindOfExtension['.json'] = 'json';
const images = 'svg png jpg jpeg jfif gif webp avif apng jxl heic heif ico cur bmp';
const fonts = 'woff woff2 ttf otf eot';
const media = 'mp3 ogg wav flac m4a aac opus weba mid midi mp4 webm ogv mov avi m3u8 vtt srt';
const models = 'glb gltf bin obj mtl stl ply fbx usdz hdr exr ktx ktx2 basis onnx tflite';
const data = 'pdf txt wasm webmanifest csv tsv xml geojson gpx kml ics zip gz epub docx xlsx pptx odt';
/** Extensions of files that are used by their URLs. `live.d.ts` has types for them. */
export const assetExtensions: readonly string[] = [images, fonts, media, models, data].flatMap((list) => list.split(' '));
for (const name of assetExtensions) kindOfExtension[`.${name}`] = 'asset';

/** The kind of a file by its name, `undefined` where it cannot be imported. */
export function kindOfFile(path: string): FileKind | undefined {
  return kindOfExtension[extname(path).toLowerCase()];
}

const sources = new Set(
  '.vue .svelte .marko .riot .elm .coffee .litcoffee .ls .less .styl .stylus .pug .jade .hbs .handlebars .ejs .njk .mustache .mdx .graphql .gql .proto .rs .go .py .rb .php .java .kt .dart .cs .fs .re .res .ml .clj .cljs .purs .civet .imba .yaml .yml .toml .xhtml .htm .html'.split(
    ' ',
  ),
);

/** Whether a file looks like something that has to be translated, and that nothing here translates. */
export function isForeignSource(path: string): boolean {
  return sources.has(extname(path).toLowerCase());
}

/** Whether a file may be sent to a browser just because a page, a style sheet or a script names its path. */
export function isAssetPath(path: string): boolean {
  return kindOfFile(path) === 'asset';
}
