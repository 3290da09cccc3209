/**
 * What `work` comes to, if it comes to it within `ms`.
 *
 * @throws Error with `why` and the time, where it doesn't.
 */
export async function inTime<T>(work: T | Promise<T>, ms: number, why: string): Promise<T> {
  let timer: NodeJS.Timeout | undefined;
  const late = new Promise<never>((_, reject) => {
    timer = setTimeout(() => reject(new Error(`${why} after ${Math.round(ms / 1000)} seconds.`)), ms);
  });
  try {
    return await Promise.race([work, late]);
  } finally {
    clearTimeout(timer);
  }
}
