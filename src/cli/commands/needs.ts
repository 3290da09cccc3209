import { Command } from 'commander';
import type { NeededPackage, Needs } from '../../check/needs.js';
import { VineError } from '../../core/problem/problem.js';
import { shownJson, shownText } from '../../core/text/shown-text.js';
import { noTrace } from '../../core/trace.js';
import { adding, managerOf, removing, runManager } from '../../create/manager.js';
import { effectiveSettings } from '../../settings/effective.js';
import { askYes } from '../ask.js';
import { projectOptions } from '../compose.js';
import { examples } from '../examples.js';
import { quietListener } from '../quiet-listener.js';
import { colours as pc } from '../report/colours.js';

interface NeedsOptions {
  install?: boolean;
  remove?: boolean;
  json?: boolean;
  yes?: boolean;
  settings?: string;
}

/** `vine-spark needs`. */
export function needsCommand(): Command {
  return new Command('needs')
    .description(
      'compare what the sources import with what package.json lists: what is missing, there by luck, or listed for nothing',
    )
    .option('--install', 'add what is missing, with the package manager of the project')
    .option('--remove', 'take away what nothing uses')
    .option('--yes', 'do not ask')
    .option('--json', 'print it as JSON')
    .option('--settings <file>', 'settings file')
    .addHelpText(
      'after',
      examples(
        ['needs', 'what is missing and what is too much; exits with 1 where something is'],
        ['needs --install', 'shows the command, and runs it'],
      ),
    )
    .action(async (options: NeedsOptions) => {
      const { ProjectGraph } = await import('../../project/project-graph.js');
      const { findNeeds } = await import('../../check/needs.js');
      const { unreadableDescription } = await import('../../check/versions.js');
      const settings = await effectiveSettings(process.cwd(), {
        pageless: true,
        ...(options.settings === undefined ? {} : { settings: options.settings }),
      });
      const project = new ProjectGraph(projectOptions(settings, { cacheFolder: undefined, trace: noTrace }), quietListener);
      await project.typescript.load();
      const problem = unreadableDescription(settings.root);
      if (problem) throw new VineError(problem);
      const needs = findNeeds(project, [settings.output.folder]);
      if (options.json) process.stdout.write(`${shownJson(needs)}\n`);
      else for (const row of rows(needs)) process.stdout.write(`${row}\n`);
      const isFine = needs.missing.length + needs.unused.length === 0;
      if (!options.install && !options.remove) process.exitCode = isFine ? 0 : 1;
      const { root } = settings;
      const manager = managerOf(root);
      const isAsked = !options.yes && process.stdin.isTTY === true;
      const ofKind = (isForDevelopment: boolean) =>
        needs.missing.filter((one) => one.isForDevelopment === isForDevelopment).map(specifierOf);
      if (options.install) {
        await run(root, manager, adding(manager, ofKind(false)), { isAsked, isEmpty: ofKind(false).length === 0 });
        const flag = manager === 'npm' ? '--save-dev' : '-D';
        await run(root, manager, [...adding(manager, ofKind(true)), flag], { isAsked, isEmpty: ofKind(true).length === 0 });
      }
      if (options.remove)
        await run(root, manager, removing(manager, needs.unused), { isAsked, isEmpty: needs.unused.length === 0 });
    });
}

/** What a package manager is told, with the range that fits. */
function specifierOf({ name, fits }: NeededPackage): string {
  return fits === undefined ? name : `${name}@${fits}`;
}

async function run(
  root: string,
  manager: ReturnType<typeof managerOf>,
  args: readonly string[],
  { isAsked, isEmpty }: { isAsked: boolean; isEmpty: boolean },
): Promise<void> {
  if (isEmpty) return;
  process.stdout.write(`\n  ${pc.bold(shownText(`${manager} ${args.join(' ')}`))}\n`);
  if (isAsked) {
    if (!(await askYes('Run it?', true))) return;
  }
  const { isDone, said } = await runManager(manager, args, root);
  if (!isDone)
    throw new VineError({
      code: 'package-missing',
      message: `${manager} failed: ${said.trim().split('\n').slice(-3).join(' ')}`,
      hint: 'Run the command yourself to see all that it says.',
    });
  process.stdout.write(`  ${pc.green('done')}\n`);
}

function rows({ missing, unused, unread }: Needs): string[] {
  if (missing.length + unused.length + unread.length === 0)
    return [pc.green('package.json lists what the sources use, and nothing else')];
  const width = Math.max(12, ...[...missing.map(({ name }) => name.length), ...unused.map((name) => name.length)]) + 2;
  const row = (name: string, text: string) => `  ${pc.bold(shownText(name.padEnd(width)))}${shownText(text)}`;
  const files = ({ files: all }: NeededPackage) =>
    `${all.slice(0, 3).join(', ')}${all.length > 3 ? ` and ${all.length - 3} more` : ''}`;
  const lost = missing.filter(({ byLuck }) => !byLuck);
  const lucky = missing.filter(({ byLuck }) => byLuck);
  return [
    ...(lost.length > 0 ? [pc.red('imported, and neither listed nor installed')] : []),
    ...lost.map((one) => row(one.name, `${files(one)}${one.fits ? `; ${one.fits} fits the packages beside it` : ''}`)),
    ...(lucky.length > 0 ? [pc.yellow('imported, and only there by luck')] : []),
    ...lucky.map((one) =>
      row(
        one.name,
        `${files(one)}; ${one.byLuck!.version}${one.byLuck!.bringers.length > 0 ? `, since ${one.byLuck!.bringers.join(', ')} brings it` : ' lies there'}`,
      ),
    ),
    ...(unused.length > 0 ? [pc.yellow('listed, and nothing uses it')] : []),
    ...unused.map((name) => row(name, 'no source, script or configuration names it')),
    ...(unread.length > 0 ? [`${pc.yellow('not read, since they are broken:')} ${shownText(unread.join(', '))}`] : []),
  ];
}
