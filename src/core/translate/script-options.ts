/** What a tsconfig.json or jsconfig.json says about translating scripts, as far as it matters to us. */
export interface ScriptOptions {
  jsx: { runtime: 'automatic' | 'classic'; importSource?: string; pragma?: string; pragmaFragment?: string };
  /** TypeScript's own decorators instead of the standard's. */
  legacyDecorators: boolean;
  /** Store the types of decorated parameters. */
  decoratorMetadata: boolean;
  /** Keep imports that are not marked as types, even if only types use them. */
  verbatimImports: boolean;
  /** Class fields are defined, as the standard has it, not assigned. */
  definedFields: boolean;
}

export const defaultScriptOptions: ScriptOptions = {
  jsx: { runtime: 'automatic' },
  legacyDecorators: false,
  decoratorMetadata: false,
  verbatimImports: false,
  definedFields: true,
};
