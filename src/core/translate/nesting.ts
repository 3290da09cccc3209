/** Below this length no text can be nested deeply enough to matter. */
const shortest = 12_000;
const deepest = 1500;
const longestChain = 4000;

/**
 * Whether a script may be nested so deeply that a parser runs out of its stack, which in native code ends the process. Only an
 * estimate, made in one pass and without knowing strings from code: where it says no, there is no danger.
 */
export function mayBeTooDeep(text: string): boolean {
  if (text.length < shortest) return false;
  const mayHoldElements = text.includes('</');
  // Bytes, since the engine's optimised form of a loop over the characters of a long string takes minutes (Node.js 20).
  const codes = Buffer.from(text, 'latin1');
  let depth = 0;
  let elements = 0;
  /** Operators since the last end of a statement: `a => b => c`, `a ? b : c ? d : e`, `a = b = c`, `else if`. */
  let chain = 0;
  for (let at = 0; at < codes.length; at++) {
    switch (codes[at]) {
      case 0x28: // (
      case 0x5b: // [
      case 0x7b: // {
        if (++depth > deepest) return true;
        break;
      case 0x3c: // <
        if (++depth > deepest) return true;
        if (mayHoldElements) elements += codes[at + 1] === 0x2f ? -1 : 1;
        if (elements > deepest) return true;
        break;
      case 0x29: // )
      case 0x5d: // ]
      case 0x7d: // }
        if (depth > 0) depth--;
        break;
      case 0x3e: // >
        if (depth > 0) depth--;
        if (codes[at - 1] === 0x2f && elements > 0) elements--;
        break;
      case 0x3d: // =
      case 0x3f: // ?
      case 0x3a: // :
      case 0x60: // `
        if (++chain > longestChain) return true;
        break;
      case 0x3b: // ;
        if (codes[at + 1] === 0x65 && codes[at + 2] === 0x6c)
          chain++; // `el`, as in `else`
        else chain = 0;
        break;
    }
  }
  return false;
}
