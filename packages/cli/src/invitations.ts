import type { Admission } from '@nine-bells/client/backend';
import { defined, type Invitation } from '@nine-bells/wire';
import type { Command } from 'commander';
import {
  backendOf,
  type CallOptions,
  calling,
  duration,
  type ListOptions,
  listing,
  noteNext,
  pageOf,
  wholeFrom,
} from './options.js';
import { dayTime, note, print, printJson, table } from './output.js';
import { authorOf } from './publish.js';

interface InviteCommandOptions extends CallOptions {
  readonly user?: string;
  readonly role?: string;
  readonly uses?: number;
  readonly for?: number;
  readonly by?: string;
  readonly link?: string;
}

/** The commands about invitations into channels. */
export function addInvitations(program: Command): void {
  calling(
    program
      .command('invite')
      .description('create an invitation into a channel, and print its code, once')
      .argument('<channel>', 'such as protest/7')
      .option('--user <user>', 'only this user may accept it; it is notified')
      .option('--role <role>', 'who accepts is invited as this')
      .option('--uses <n>', 'how many users may accept it (default: 1)', wholeFrom(1, 10_000))
      .option('--for <time>', 'how long it can be accepted, such as 2h (default: 7d)', duration)
      .option('--link <url>', 'print a link to this page, with the code behind #, where no server sees it')
      .option('--by <user[:name]>', 'the user in whose name it is made'),
  ).action(async (channel: string, options: InviteCommandOptions) => {
    const { user, role, uses, for: forMs, by, link } = options;
    const wish = defined({ user, role, uses, forMs, by: by === undefined ? undefined : authorOf(by) });
    const { invitation, code } = await backendOf(options).invite({ channel, ...wish });
    if (options.json) printJson({ invitation, code });
    else print(link === undefined ? code : `${link}#invitation=${code}`);
    if (!options.json)
      note(
        `${invitation.id} into ${channel}, for ${invitation.uses === 1 ? 'one user' : `${invitation.uses} users`}, until ${dayTime(invitation.until)}.`,
      );
  });

  listing(
    program
      .command('invitations')
      .description('list the invitations into a channel, latest first')
      .argument('<channel>', 'such as protest/7'),
    100,
  ).action(async (channel: string, options: ListOptions) => {
    const { invitations, next } = await backendOf(options).invitations(channel, pageOf(options));
    if (options.json) for (const each of invitations) printJson(each);
    else if (invitations.length === 0) note(`There are no invitations into ${channel}.`);
    else print(table(['ID', 'UNTIL', 'ACCEPTED', 'FOR', 'AS', 'BY', ''], invitations.map(invitationRow)));
    noteNext(next);
  });

  calling(
    program
      .command('end-invitation')
      .description('end an invitation')
      .argument('<id>', 'as `ninebells invitations` lists it')
      .option('--admitted', 'those who have accepted it are no longer let in'),
  ).action(async (id: string, options: CallOptions & { admitted?: boolean }) => {
    const done = await backendOf(options).endInvitation(id, defined({ admitted: options.admitted }));
    if (options.json) printJson(done);
    else print(`Ended${options.admitted ? `; ${done.ended} who had accepted it are no longer let in` : ''}.`);
  });

  listing(
    program
      .command('admissions')
      .description('list the users admitted to a channel by an invitation')
      .argument('<channel>', 'such as protest/7'),
    100,
  ).action(async (channel: string, options: ListOptions) => {
    const { admissions, next } = await backendOf(options).admissions(channel, pageOf(options));
    if (options.json) for (const each of admissions) printJson(each);
    else if (admissions.length === 0) note(`No user is let into ${channel} by an invitation.`);
    else print(table(['USER', 'AS', 'SINCE', 'UNTIL', 'INVITATION'], admissions.map(admissionRow)));
    noteNext(next);
  });

  calling(
    program
      .command('end-admission')
      .description("end a user's admission to a channel")
      .argument('<channel>', 'such as protest/7')
      .argument('<user>', "the user's id"),
  ).action(async (channel: string, user: string, options: CallOptions) => {
    const { ended } = await backendOf(options).endAdmission(channel, user);
    if (options.json) printJson({ channel, user, ended });
    else
      print(
        ended ? `${user} is no longer let into ${channel}.` : `${user} was not let into ${channel} by an invitation.`,
      );
  });
}

function invitationRow({ id, until, used, uses, user, role, by, over }: Invitation): string[] {
  return [id, dayTime(until), `${used} of ${uses}`, user ?? 'any', role ?? '', by?.name ?? by?.user ?? '', over ?? ''];
}

function admissionRow({ user, role, at, until, invitation }: Admission): string[] {
  return [user, role ?? '', dayTime(at), until === undefined ? 'it is ended' : dayTime(until), invitation];
}
