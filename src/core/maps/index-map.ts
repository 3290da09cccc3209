/** A module's map and the line of the piece, counted from 0, on which its body starts. */
export interface MapSection {
  line: number;
  /** The section's map as JSON text. */
  map: string;
}

/** An index map (ECMA-426, 9.1) as parts of its text, to be sent one after another: no map is read, encoded or copied. */
export function indexMap(file: string, sections: Iterable<MapSection>): string[] {
  const parts = [`{"version":3,"file":${JSON.stringify(file)},"sections":[`];
  let separator = '';
  for (const { line, map } of sections) {
    parts.push(`${separator}{"offset":{"line":${line},"column":0},"map":`, map, '}');
    separator = ',\n';
  }
  parts.push(']}');
  return parts;
}
