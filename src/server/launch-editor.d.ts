declare module 'launch-editor' {
  /** Opens `file:line:column` in the editor that runs, in the one that is named, or in that of the environment. */
  export default function startEditor(place: string, onError?: (file: string, message: string | null) => void): void;
}
