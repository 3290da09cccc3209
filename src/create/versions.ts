/**
 * Versions that fit together, as they were when this version of Vine Spark was made: a project gets ranges from them on, so an
 * install takes what is current.
 */
const known: Record<string, string> = {
  react: '19.3.1',
  'react-dom': '19.3.1',
  '@types/react': '19.3.3',
  '@types/react-dom': '19.3.0',
  preact: '11.2.0',
  vue: '3.5.45',
  svelte: '5.57.3',
  typescript: '7.0.2',
  '@types/node': '20.19.43',
  tailwindcss: '4.3.5',
  '@tailwindcss/postcss': '4.3.5',
  sass: '1.108.2',
};

/** The version of a package to begin with: a range, or exactly the one known; `latest` where none is. */
export function versionOf(name: string, isExact: boolean): string {
  const version = known[name];
  if (version === undefined) return 'latest';
  return isExact ? version : `^${version}`;
}

/** Whether a version of the package is known here. */
export function isKnown(name: string): boolean {
  return Object.hasOwn(known, name);
}
