/** What a default export without a name is called among a module's top-level names: no name of a text is like that. */
export const defaultName = '*default';
