let basePath = '/';

/** The URL prefix of the front end, with a slash at both ends. */
export function frontEndBase(): string {
  return basePath;
}

/** Sets the prefix, before anything else happens. */
export function setFrontEndBase(prefix: string): void {
  basePath = prefix;
}
