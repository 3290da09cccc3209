import { z } from 'zod';
import { settingsSchema } from './schema.js';
import { settingDocs } from './setting-docs.js';

interface SchemaNode {
  description?: string;
  examples?: unknown[];
  properties?: Record<string, SchemaNode>;
}

/** The settings as a JSON Schema (draft 2020-12), with what the documentation says of them. What only a program can hold may be anything. */
export function settingsJsonSchema(): object {
  const schema = z.toJSONSchema(settingsSchema, { io: 'input', unrepresentable: 'any' }) as SchemaNode;
  for (const [name, { what }] of Object.entries(settingDocs)) {
    let node: SchemaNode | undefined = schema;
    for (const key of name.split('.')) node = node?.properties?.[key];
    if (node) node.description = what.replaceAll('`', '').replace(/\[([^\]]+)\]\([^)]+\)/g, '$1');
  }
  return { title: 'Settings of Vine Spark', ...schema };
}
