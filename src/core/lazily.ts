import { createRequire } from 'node:module';

const require = createRequire(import.meta.url);

/** A package that is loaded when it's first used: a start takes longer with every package that it loads. */
export function lazily<T>(name: string): () => T {
  let loaded: { value: T } | undefined;
  return () => {
    loaded ??= { value: require(name) as T };
    return loaded.value;
  };
}
