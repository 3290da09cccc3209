// Types of `import.meta.live` and of files that are imported by their URLs: add "vine-spark/live" to "types" in tsconfig.json.
interface VineLive {
  /** Handed on from one instance of the module to the next; an empty object at first. */
  readonly state: Record<string, unknown>;
  /** This module takes its own updates. The callback is called with the fresh exports. */
  take(callback?: (exports: Record<string, unknown>) => void): void;
  /** This module takes updates of what it imports, without running again. */
  take(dependency: string | readonly string[], callback: (exports: Record<string, unknown>) => void): void;
  /** Called before this instance is replaced or dropped. */
  cleanup(callback: (state: Record<string, unknown>) => void): void;
  /** Updates of this module reload the page; called in a `take` callback it reloads now. */
  refuse(reason?: string): void;
  /** Says in the terminal whose state starts anew in the update under way. */
  anew(...names: string[]): void;
}
interface ImportMeta {
  /** Absent in a production build. */
  readonly live?: VineLive;
  /** URL prefix of the front end, with a slash at both ends. */
  readonly base: string;
}
declare module '*.css';
declare module '*.scss';
declare module '*.sass';
declare module '*.svg' {
  const url: string;
  export default url;
}
declare module '*.png' {
  const url: string;
  export default url;
}
declare module '*.jpg' {
  const url: string;
  export default url;
}
declare module '*.jpeg' {
  const url: string;
  export default url;
}
declare module '*.jfif' {
  const url: string;
  export default url;
}
declare module '*.gif' {
  const url: string;
  export default url;
}
declare module '*.webp' {
  const url: string;
  export default url;
}
declare module '*.avif' {
  const url: string;
  export default url;
}
declare module '*.apng' {
  const url: string;
  export default url;
}
declare module '*.jxl' {
  const url: string;
  export default url;
}
declare module '*.heic' {
  const url: string;
  export default url;
}
declare module '*.heif' {
  const url: string;
  export default url;
}
declare module '*.ico' {
  const url: string;
  export default url;
}
declare module '*.cur' {
  const url: string;
  export default url;
}
declare module '*.bmp' {
  const url: string;
  export default url;
}
declare module '*.woff' {
  const url: string;
  export default url;
}
declare module '*.woff2' {
  const url: string;
  export default url;
}
declare module '*.ttf' {
  const url: string;
  export default url;
}
declare module '*.otf' {
  const url: string;
  export default url;
}
declare module '*.eot' {
  const url: string;
  export default url;
}
declare module '*.mp3' {
  const url: string;
  export default url;
}
declare module '*.ogg' {
  const url: string;
  export default url;
}
declare module '*.wav' {
  const url: string;
  export default url;
}
declare module '*.flac' {
  const url: string;
  export default url;
}
declare module '*.m4a' {
  const url: string;
  export default url;
}
declare module '*.aac' {
  const url: string;
  export default url;
}
declare module '*.opus' {
  const url: string;
  export default url;
}
declare module '*.weba' {
  const url: string;
  export default url;
}
declare module '*.mid' {
  const url: string;
  export default url;
}
declare module '*.midi' {
  const url: string;
  export default url;
}
declare module '*.mp4' {
  const url: string;
  export default url;
}
declare module '*.webm' {
  const url: string;
  export default url;
}
declare module '*.ogv' {
  const url: string;
  export default url;
}
declare module '*.mov' {
  const url: string;
  export default url;
}
declare module '*.avi' {
  const url: string;
  export default url;
}
declare module '*.m3u8' {
  const url: string;
  export default url;
}
declare module '*.vtt' {
  const url: string;
  export default url;
}
declare module '*.srt' {
  const url: string;
  export default url;
}
declare module '*.glb' {
  const url: string;
  export default url;
}
declare module '*.gltf' {
  const url: string;
  export default url;
}
declare module '*.bin' {
  const url: string;
  export default url;
}
declare module '*.obj' {
  const url: string;
  export default url;
}
declare module '*.mtl' {
  const url: string;
  export default url;
}
declare module '*.stl' {
  const url: string;
  export default url;
}
declare module '*.ply' {
  const url: string;
  export default url;
}
declare module '*.fbx' {
  const url: string;
  export default url;
}
declare module '*.usdz' {
  const url: string;
  export default url;
}
declare module '*.hdr' {
  const url: string;
  export default url;
}
declare module '*.exr' {
  const url: string;
  export default url;
}
declare module '*.ktx' {
  const url: string;
  export default url;
}
declare module '*.ktx2' {
  const url: string;
  export default url;
}
declare module '*.basis' {
  const url: string;
  export default url;
}
declare module '*.onnx' {
  const url: string;
  export default url;
}
declare module '*.tflite' {
  const url: string;
  export default url;
}
declare module '*.pdf' {
  const url: string;
  export default url;
}
declare module '*.txt' {
  const url: string;
  export default url;
}
declare module '*.wasm' {
  const url: string;
  export default url;
}
declare module '*.webmanifest' {
  const url: string;
  export default url;
}
declare module '*.csv' {
  const url: string;
  export default url;
}
declare module '*.tsv' {
  const url: string;
  export default url;
}
declare module '*.xml' {
  const url: string;
  export default url;
}
declare module '*.geojson' {
  const url: string;
  export default url;
}
declare module '*.gpx' {
  const url: string;
  export default url;
}
declare module '*.kml' {
  const url: string;
  export default url;
}
declare module '*.ics' {
  const url: string;
  export default url;
}
declare module '*.zip' {
  const url: string;
  export default url;
}
declare module '*.gz' {
  const url: string;
  export default url;
}
declare module '*.epub' {
  const url: string;
  export default url;
}
declare module '*.docx' {
  const url: string;
  export default url;
}
declare module '*.xlsx' {
  const url: string;
  export default url;
}
declare module '*.pptx' {
  const url: string;
  export default url;
}
declare module '*.odt' {
  const url: string;
  export default url;
}
declare module '*.vue' {
  // biome-ignore lint/suspicious/noExplicitAny: what a component is, its framework's own tools say
  const component: any;
  export default component;
}
declare module '*.svelte' {
  // biome-ignore lint/suspicious/noExplicitAny: what a component is, its framework's own tools say
  const component: any;
  export default component;
}
