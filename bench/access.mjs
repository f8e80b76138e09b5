// What deciding costs: 50 channel rules, a million decisions each of several kinds, in one run on one machine, beside the
// least that any decision costs: a look into a map.
import { cpus } from 'node:os';
import { channelName } from '@nine-bells/wire';
// The parts that decide, without a service around them.
import { Access } from '../packages/core/dist/access/access.js';
import { ActiveBans } from '../packages/core/dist/access/activeBans.js';
import { Questions } from '../packages/core/dist/access/questions.js';
import { ChannelRules } from '../packages/core/dist/rules/channelRule.js';
import { median } from './child.mjs';

const decisions = 1_000_000;
const rounds = 7;
const wantedUs = 2;

const asked = { ask: 'http://127.0.0.1:9/may' };
const kinds = ['chat', 'signals', 'positions', 'results', 'photos', 'tides', 'crew', 'jury', 'press', 'weather'];
const rules = kinds.flatMap((kind, index) =>
  [`race/:race/${kind}`, `${kind}/:boat`, `${kind}/:day/:number`, `regatta/${kind}`, `:club/${kind}/${index}`].map(
    (pattern) => ({ pattern, logbook: { type: 'kept' }, allow: { enter: 'anyone', publish: 'signed-in' } }),
  ),
);
const allow = (pattern, publish) => {
  rules.find((each) => each.pattern === pattern).allow = { enter: 'anyone', publish };
};
allow('crew/:boat', { any: [{ claim: 'boats', holds: ':boat' }, { role: 'coach' }] });
allow('jury/:boat', { all: ['signed-in', { role: 'jury' }, { not: { claim: 'suspended', is: 'true' } }] });
allow('press/:boat', asked);

const clock = {
  now: Date.now,
  settled: Date.now,
  monotonic: () => performance.now(),
  setTimer: () => () => {},
  endOfTurn: () => {},
};
const bans = new ActiveBans(clock);
const by = { kind: 'service', id: 'bench' };
for (let i = 0; i < 1000; i++) bans.take({ type: 'ban', id: `b${i}`, user: `banned-${i}`, by, atMs: 0 });
const questions = new Questions({
  clock,
  report: () => {},
  withinMs: 1000,
  asker: { ask: async () => ({ allow: true, rememberMs: 3_600_000 }) },
});
const access = new Access(new ChannelRules(rules), {}, bans, questions);
const channelRules = new ChannelRules(rules);

const who = {
  user: 'tomas',
  guest: false,
  roles: ['skipper', 'jury'],
  claims: { boats: ['dunlin', 'knot', 'petrel'] },
};
const visitor = { who, address: '192.0.2.1' };
const cases = [
  { name: 'signed-in', channel: 'race/3/chat' },
  { name: 'a claim that is the parameter', channel: 'crew/petrel' },
  { name: 'three conditions', channel: 'jury/petrel' },
  { name: 'refused', channel: 'crew/wigeon' },
  { name: 'asked before, remembered', channel: 'press/petrel' },
].map((each) => ({ ...each, channel: channelName(each.channel), times: [] }));
const inMap = { name: 'a look into a map', times: [] };
const map = new Map(cases.map(({ channel }) => [channel, 1]));

// The first question is asked; from then on its answer is remembered.
await access.decide('publish', channelRules.match(channelName('press/petrel')), visitor);

console.log(
  `${rules.length} channel rules, ${decisions.toLocaleString('en')} decisions a round, name matched each time`,
);
console.log(`${cpus().length} x ${cpus()[0].model}, Node.js ${process.version}; medians of ${rounds} rounds\n`);
for (let round = 0; round <= rounds; round++) {
  const least = timed(() => map.get(cases[0].channel) === undefined);
  if (round > 0) inMap.times.push(least);
  for (const each of cases) {
    const us = timed(() => access.decide('publish', channelRules.match(each.channel), visitor) instanceof Promise);
    if (round > 0) each.times.push(us);
  }
}
console.log(`${''.padEnd(34)}${'per decision'.padStart(14)}${'of the bound'.padStart(14)}`);
for (const { name, times } of [inMap, ...cases])
  console.log(
    `${name.padEnd(34)}${`${median(times).toFixed(3)} us`.padStart(14)}${`${(median(times) / wantedUs).toFixed(2)}x`.padStart(14)}`,
  );
console.log(`\nThe bound is ${wantedUs} us.`);

/** Microseconds per call; whatever gives `true` is a mistake. */
function timed(act) {
  const started = performance.now();
  let wrong = 0;
  for (let i = 0; i < decisions; i++) if (act()) wrong += 1;
  if (wrong > 0) throw new Error(`${wrong} decisions were not made at once`);
  return ((performance.now() - started) * 1000) / decisions;
}
