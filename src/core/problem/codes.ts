/** Every problem a user can cause, by its stable code, with what it is about. `docs/problems.md` lists the same codes. */
export const problemCodes = {
  'unknown-option': 'A command-line option or its value is not understood.',
  'unknown-setting': 'The settings file has a key or a value that is not understood.',
  'settings-unreadable': 'The settings file cannot be read or run.',
  'page-missing': 'The HTML page to serve does not exist.',
  'port-taken': 'The port is in use and no other was allowed.',
  'address-unavailable': 'The address to listen on does not belong to this machine or may not be used.',
  'file-missing': 'A file that the page or a module names does not exist.',
  'file-unreadable': 'A file exists but cannot be read.',
  'file-outside': 'Something names a file that belongs neither to the project nor to its workspace or packages.',
  'file-hidden': 'Something names a file whose name begins with a dot, which is never sent to a browser.',
  'file-too-large': 'A file is too long or too deeply nested to be read.',
  'import-unresolved': 'A module imports something that cannot be found.',
  'package-missing': 'A module imports a package that is not installed.',
  'package-entry-missing': 'A package is installed but does not offer the imported path.',
  'builtin-in-browser': 'A module for the browser imports a part of Node.js.',
  'kind-unknown': 'A module imports a file that looks like source and that nothing translates.',
  'syntax-error': 'A module, a style sheet or a JSON file cannot be parsed.',
  'syntax-unsupported': 'A module uses syntax that browsers do not run and that is not lowered.',
  'export-missing': 'A module imports a name that the other module does not export.',
  'import-assigned': 'A module assigns to a name that it imports.',
  'adapter-failed': 'An adapter of the settings could not make a module of a file.',
  'run-error': 'A module threw an error while it ran in the browser.',
  'rule-failed': 'A function or value in a rule for forwarding fails or gives what HTTP does not allow.',
  'trace-unwritable': 'A trace cannot be written to the file that was named.',
  'recording-unusable': 'A recording of exchanges with backends cannot be read or written.',
  'output-unwritable': 'What is printed cannot be written where it should go.',
  'editor-missing': 'No editor could be found for opening a file from the page.',
  'internal-error': 'Vine Spark itself failed; please report it.',
} as const;

/** The stable code of a problem. */
export type ProblemCode = keyof typeof problemCodes;
