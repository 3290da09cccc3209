/** A module's map and the line of the piece, counted from 0, on which its body starts. */
export interface MapSection {
  line: number;
  /** Gives the section's map as parts of JSON text. */
  map(): readonly string[];
}

/** An index map (ECMA-426, 9.1) as parts of its text, made one after another as they are sent: no whole map is ever held. */
export function* indexMap(file: string, sections: Iterable<MapSection>): Generator<string | readonly string[]> {
  yield `{"version":3,"file":${JSON.stringify(file)},"sections":[`;
  let separator = '';
  for (const { line, map } of sections) {
    yield [`${separator}{"offset":{"line":${line},"column":0},"map":`, ...map(), '}'];
    separator = ',\n';
  }
  yield ']}';
}
