/** A module's map and the line of the piece, counted from 0, on which its body starts. */
export interface MapSection {
  line: number;
  /** The section's map as JSON text. */
  map: string;
}

/** Joins maps into an index map (ECMA-426, 9.1 "Index source map") as text: no map is read or encoded again. */
export function indexMap(file: string, sections: Iterable<MapSection>): string {
  const parts: string[] = [];
  for (const { line, map } of sections) parts.push(`{"offset":{"line":${line},"column":0},"map":${map}}`);
  return `{"version":3,"file":${JSON.stringify(file)},"sections":[${parts.join(',\n')}]}`;
}
