import type { Command } from 'commander';
import { claimsOf } from './claims.js';
import { CommandError, exitCodes } from './exitCodes.js';
import { collect, duration } from './options.js';
import { print } from './output.js';

interface TokenOptions {
  readonly config: string;
  readonly user: string;
  readonly name?: string;
  readonly role?: string[];
  readonly claim?: string[];
  readonly for: number;
}

export function addToken(program: Command): void {
  program
    .command('token')
    .description("print a token for a user, signed with the configuration's secret as your application would sign it")
    .requiredOption('--config <file>', 'the configuration whose tokens.secret signs')
    .requiredOption('--user <id>', 'who the user is: the claim `sub`')
    .option('--name <name>', 'the name to show')
    .option('--role <role>', 'a role; may be given several times', collect)
    .option('--claim <name=value>', 'a claim, its value as JSON or else text; several of a name make a list', collect)
    .option('--for <time>', 'how long it is good, such as 30m, 1h (the default) or 7d', duration, 3_600_000)
    .action(async (options: TokenOptions) => {
      const { ConfigurationError, readConfiguration, signToken } = await import('@nine-bells/service');
      try {
        const { tokens } = readConfiguration(options.config);
        print(
          await signToken(tokens, {
            user: options.user,
            name: options.name,
            roles: options.role ?? [],
            claims: claimsOf(options.claim ?? []),
            forMs: options.for,
          }),
        );
      } catch (error) {
        if (error instanceof ConfigurationError || error instanceof RangeError)
          throw new CommandError(exitCodes.usage, error.message);
        throw error;
      }
    });
}
