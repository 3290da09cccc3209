/** Examples at the end of a command's help. */
export function examples(...lines: readonly [command: string, what: string][]): string {
  const width = Math.max(...lines.map(([command]) => command.length));
  const rows = lines.map(([command, what]) => `  vine-spark ${command.padEnd(width)}  ${what}`);
  return `\nExamples:\n${rows.join('\n')}\n`;
}
