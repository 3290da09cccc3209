import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { expect, test } from '@jest/globals';
import { checkSettings } from '../src/settings/check-settings.js';
import { repository } from './support/workspace.js';

test('the settings in docs/architecture.md are settings', async () => {
  const text = readFileSync(join(repository, 'docs/architecture.md'), 'utf8');
  const sample = /```ts\nimport type \{ Settings \} from 'vine-spark';\nexport default (\{[\s\S]*?\}) satisfies Settings;/.exec(
    text,
  )![1]!;
  const settings = new Function(`return ${sample.replace(/\/\/ .*$/gm, '')}`)() as unknown;
  await expect(checkSettings(settings, 'docs/architecture.md')).resolves.toBeDefined();
});
