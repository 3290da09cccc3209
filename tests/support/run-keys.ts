/** A text of ours without what tells one run of the server from another. */
export function withoutRunKeys(text: string): string {
  return text
    .replace(/(session|hook)&quot;:&quot;\w+/g, '$1')
    .replace(/revision&quot;:\d+/g, 'revision')
    .replace(/hook\?\.key === "\w+"/g, 'hook?.key')
    .replace(/(\?v=\w+)-[0-9a-f]{8}/g, '$1');
}
