/** A size as people write it. */
export const sizePattern = /^(\d+(?:\.\d+)?)\s*(B|KB|MB)$/i;

const bytes = { B: 1, KB: 1e3, MB: 1e6 };

/** A size in bytes; a kilobyte is 1,000 of them. */
export function bytesOf(size: number | string): number {
  if (typeof size === 'number') return size;
  const [, number, unit] = sizePattern.exec(size)!;
  return Math.round(Number(number) * bytes[unit!.toUpperCase() as keyof typeof bytes]);
}
