import type { Member, MembersPush } from '@nine-bells/wire';

/** Who is in a channel, by what a client was told. */
export class MemberList {
  readonly list: Map<string, Member>;
  count: number;
  partial: boolean;

  constructor({ members = [], count, partial }: { members?: readonly Member[]; count?: number; partial?: true }) {
    this.list = new Map(members.map((each) => [each.user, each]));
    this.count = count ?? 0;
    this.partial = partial === true;
  }

  hear({ whole, joined = [], changed = [], left = [], count, partial }: MembersPush): void {
    if (whole) this.list.clear();
    for (const each of [...joined, ...changed]) this.list.set(each.user, each);
    for (const user of left) this.list.delete(user);
    this.count = count;
    this.partial = partial === true;
  }
}
