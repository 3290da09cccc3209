/** Loads a package, or a file of the built program by its path, see `environment.mjs`. */
export const { realRequire } = globalThis as unknown as { realRequire: NodeJS.Require };
