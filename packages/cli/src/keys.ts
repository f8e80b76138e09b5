import type { ApiKeyInfo } from '@nine-bells/client/backend';
import { defined } from '@nine-bells/wire';
import type { Command } from 'commander';
import { backendOf, type CallOptions, calling, collect, duration } from './options.js';
import { dayTime, note, print, printable, printJson, table } from './output.js';

/** The commands about API keys. They need a key that may administer. */
export function addKeys(program: Command): void {
  calling(
    program
      .command('make-key')
      .description('create an API key and print it, once')
      .argument('<name>', 'for people: who or what will use it')
      .requiredOption(
        '--right <right>',
        'read, publish, moderate (or each with :PATTERN, for some channels), notify, or administer; may be repeated',
        collect,
      )
      .option('--for <time>', 'how long it is good, such as 90d; without it, until it is revoked', duration),
  ).action(async (name: string, options: CallOptions & { right: string[]; for?: number }) => {
    const { right, for: forMs } = options;
    const made = await backendOf(options).makeKey({ name, rights: right, ...defined({ forMs }) });
    if (options.json) printJson(made);
    else {
      print(made.key);
      const until = made.expiresAt === undefined ? 'until it is revoked' : `until ${dayTime(made.expiresAt)}`;
      note(`The key ${made.id} may ${made.rights.join(', ')}, ${until}. It cannot be shown again.`);
    }
  });

  calling(program.command('keys').description('list the API keys').option('--all', 'those that are over too')).action(
    async (options: CallOptions & { all?: boolean }) => {
      const { keys } = await backendOf(options).keys();
      const shown = keys.filter((each) => options.all === true || stateOf(each) === 'good');
      if (options.json) for (const each of shown) printJson(each);
      else print(table(['ID', 'NAME', 'RIGHTS', 'MADE', 'LAST USED', 'ENDS'], shown.map(rowOf)));
    },
  );

  calling(
    program.command('revoke-key').description('revoke an API key').argument('<id>', 'as `ninebells keys` shows it'),
  ).action(async (id: string, options: CallOptions) => {
    const revoked = await backendOf(options).revokeKey(id);
    if (options.json) printJson(revoked);
    else print(`Revoked the key ${revoked.id}, ${printable(revoked.name)}.`);
  });
}

function stateOf({ revokedAt, expiresAt }: ApiKeyInfo): 'good' | 'revoked' | 'expired' {
  if (revokedAt !== undefined) return 'revoked';
  return expiresAt !== undefined && new Date(expiresAt).getTime() <= Date.now() ? 'expired' : 'good';
}

function rowOf(key: ApiKeyInfo): string[] {
  const { id, name, rights, createdAt, lastUsedAt, expiresAt, revokedAt } = key;
  const ends = revokedAt === undefined ? expiresAt : revokedAt;
  const state = stateOf(key);
  return [
    id,
    printable(name),
    rights.join(' '),
    dayTime(createdAt),
    lastUsedAt === undefined ? 'never' : dayTime(lastUsedAt),
    `${ends === undefined ? 'when revoked' : dayTime(ends)}${state === 'good' ? '' : ` (${state})`}`,
  ];
}
