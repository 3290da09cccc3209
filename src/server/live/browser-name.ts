const known: [RegExp, string][] = [
  [/Firefox\/(\d+)/, 'Firefox'],
  [/Edg\/(\d+)/, 'Edge'],
  [/(?:Headless)?Chrome\/(\d+)/, 'Chrome'],
  [/Version\/(\d+)[^ ]* (?:Mobile\/\S+ )?Safari/, 'Safari'],
];

/** The browser's name and version from its User-Agent, for people to tell their windows apart. */
export function browserName(userAgent: string | undefined): string {
  for (const [pattern, name] of known) {
    const match = pattern.exec(userAgent ?? '');
    if (match) return `${name} ${match[1]}`;
  }
  return 'a browser';
}
