import { Command } from 'commander';

/** Commands by the headings of the help, both in the order of the help. */
const groups: Readonly<Record<string, readonly string[]>> = {
  'Start and check': [
    ...['serve', 'demo', 'token', 'check', 'check-change', 'types', 'docs', 'drill', 'plan', 'console'],
  ],
  'Publish and read': [
    ...['publish', 'listen', 'read', 'channels', 'search', 'revise', 'withdraw', 'revisions', 'react', 'reactions'],
    ...['set', 'board'],
  ],
  'Find out': ['explain', 'trace', 'refusals', 'who', 'sessions', 'traffic', 'instances'],
  Users: [
    ...['notify', 'inbox', 'unread', 'threads', 'marks', 'digest', 'level', 'levels', 'block', 'unblock', 'blocks'],
    ...['person', 'forget', 'erasures'],
  ],
  Moderation: [
    ...['reports', 'end-report', 'pending', 'approve', 'reject', 'remove', 'silence', 'silences', 'end-silence'],
    ...['ban', 'bans', 'unban', 'sign-out', 'revoke-tokens', 'audit'],
    ...['invite', 'invitations', 'end-invitation', 'admissions', 'end-admission'],
  ],
  Webhooks: ['arrivals', 'intake', 'deliveries', 'resend', 'hook', 'feed', 'forward'],
  Operate: ['make-key', 'keys', 'revoke-key', 'drain', 'prune', 'hold', 'holds', 'end-hold', 'help'],
};

/** The names of all commands with a heading, in the order of the help. */
export const groupedCommands = Object.values(groups).flat();

/** Puts the commands of the help under headings. */
export function groupCommands(program: Command): void {
  const help = new Command('help').argument('[command]').description('show help for a command');
  program.addHelpCommand(help);
  for (const [heading, names] of Object.entries(groups))
    for (const command of [...program.commands, help])
      if (names.includes(command.name())) command.helpGroup(`${heading}:`);
  // The help lists commands in the order of this list.
  const commands = program.commands as Command[];
  commands.sort((a, b) => groupedCommands.indexOf(a.name()) - groupedCommands.indexOf(b.name()));
}
