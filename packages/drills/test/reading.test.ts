import { DrillFault, parseDrill } from '@nine-bells/drills';
import { describe, expect, it } from 'vitest';

const head = `drill: 1
with: { boat: petrel }
users: { ines: { name: Ines Okoro }, jory: }
clients: { chair: ines, party: { user: jory, connects: later }, fan: { guest: true, times: 3 } }
`;
/** Mistakes reported for a drill, one per line. */
function faultsOf(text: string): readonly string[] {
  try {
    parseDrill(text, 'x.drill.yaml');
    return [];
  } catch (error) {
    if (!(error instanceof DrillFault)) throw error;
    return error.message.split('\n');
  }
}
const faultOf = (step: string): string => faultsOf(`${head}steps:\n  - ${step}\n`).join('\n');

describe('a drill is read', () => {
  it('with all that a step may say', () => {
    const drill = parseDrill(
      `${head}within: 2s
steps:
  - chair: { enter: crew/$(boat), last: 10, as: entered }
  - note: the second of them
    fan 2: { gets: message, channel: crew/$(boat), times: 2, within: 100ms }
  - any fan: { offline: 1s to 2s }
  - chair: { remove: protest/7, user: jory, banMs: 10m, refused: not-allowed }
  - application: { get: "/v1/members?channel=x", until: { count: { is at least: 1 } } }
  - each: [a, b]
    as: word
    steps: [{ chair: { publish: c, data: $(word) } }, { wait: 5ms }]
`,
      'x.drill.yaml',
    );
    expect(drill.withinMs).toBe(2_000);
    expect(drill.steps).toMatchObject([
      { kind: 'act', verb: 'enter', members: { channel: 'crew/$(boat)', last: 10 }, as: 'entered', line: 7 },
      { kind: 'gets', who: { client: 'fan', which: 2 }, times: 2, withinMs: 100, note: 'the second of them', line: 8 },
      { kind: 'network', who: { which: 'any' }, what: { type: 'offline', ms: { least: 1_000, most: 2_000 } } },
      { kind: 'act', verb: 'remove', members: { banMs: 600_000 }, refused: 'not-allowed' },
      { kind: 'call', method: 'GET', until: { count: { 'is at least': 1 } } },
      { kind: 'repeat', values: ['a', 'b'], as: 'word', steps: [{ kind: 'act' }, { kind: 'wait' }] },
    ]);
  });

  it('with captures that later steps know, also from blocks', () => {
    const steps = `  - together: [{ chair: { publish: a, data: 1, as: said } }, { fan: { enter: a } }]
  - repeat: 2
    as: leg
    steps: [{ chair: { publish: a, data: $(said.id), as: last } }]
  - chair: { publish: a, data: $(last.id) }
  - each: $(last.list)
    steps: [{ wait: 1ms }]
`;
    expect(faultsOf(`${head}steps:\n${steps}`)).toEqual([]);
    expect(faultsOf(`${head}steps:\n${steps}  - chair: { publish: a, data: $(leg) }\n`).join()).toContain('$(leg)');
  });

  it.each([
    ['cair: { enter: a }', 'x.drill.yaml:6:11: steps[0].cair: there is no "cair" here; did you mean "chair"?'],
    ['chair: { entr: a }', 'there is no "entr" here; did you mean "enter"?'],
    ['chair: { enter: a, lst: 3 }', 'steps[0].chair.lst: there is no "lst" here; did you mean "last"?'],
    ['chair: { gets: mesage }', 'did you mean "message"?'],
    ['chair: { gets: message, chanel: a }', 'did you mean "channel"?'],
    ['chair: { gets: message, data: { is leest: 1 } }', 'there is no "is leest"; there are is there, is a,'],
    ['chair: { gets: message, data: { is at least: x } }', '`is at least`: expected a number'],
    ['chair: { gets no: message, within: 1s }', 'how long nothing comes is said with `for`'],
    ['chair: { enter: a, refused: not-alowed }', 'did you mean "not-allowed"?'],
    ['chair: { enter: a, refused: banned, reply: { count: 1 } }', 'cannot both be refused and be answered'],
    ['chair: { publish: a, data: $(sad.id) }', '$(sad): nothing before this step gives that name'],
    ['chair: { publish: a, data: "$(a b)" }', '$(a b) is not a reference'],
    ['chair: { enter: a }\n    party: { enter: a }', 'a step is one act of one client: found chair and party'],
    ['chair 2: { enter: a }', 'there is only one chair'],
    ['fan 4: { enter: a }', 'there is no fan 4: fan are numbered from 1 to 3'],
    ['wait: soon', 'expected a time such as 500ms, or 1s to 2s, found "soon"'],
    ['wait: 2s to 1s', 'expected a time such as'],
    ['service: reboot', 'expected restart, stop or start'],
    ['application: { call: /v1/x }', 'there are publish, gets, gets no, answers, get, post, put, patch and delete'],
    ['application: { gets: deliveries }', 'did you mean "delivery"?'],
    ['application: { gets: delivery, chanel: a }', '"chanel"'],
    ['application: { answers: asks, with: {} }', 'did you mean "ask"?'],
    ['application: { answers: ask, to: { usr: tomas } }', 'did you mean "user"?'],
    ['application: { get: /v1/x, until: {}, refused: banned }', 'it does not go with reply or refused'],
    ['include: other.drill.yaml', 'there is no file'],
    ['together: []', 'expected at least one step'],
    ['repeat: 0\n    steps: [{ wait: 1ms }]', 'expected a whole number from 1'],
    [
      'chair: { publish: a, data: { text: Well, yes. } }',
      '"yes." has no value; text with a comma in it is written in quotes',
    ],
    ['chair: { enter: direct/jory,pia }', '"pia" has no value; text with a comma in it is written in quotes'],
    [
      'together: [{ chair: { publish: a, data: 1, as: said } }, { fan: { publish: a, data: $(said) } }]',
      '$(said): nothing before this step gives that name',
    ],
    ['each: 3\n    steps: [{ wait: 1ms }]', 'expected a list of values'],
    ['[]', 'expected a step such as `chair: { enter: race/12/chat }`, found a list'],
  ])('%s is a mistake, told with its line and the nearest word', (step, told) => {
    expect(faultOf(step)).toContain(told);
  });

  it.each([
    ['drill: 2\nclients: { a: guest }\nsteps: [{ wait: 1ms }]', 'this drill is written in format 2'],
    ['clients: { a: guest }\nsteps: [{ wait: 1ms }]', '`drill` is missing'],
    ['drill: 1\nclients: { a: ines }\nsteps: [{ wait: 1ms }]', 'there is no "ines" here'],
    ['drill: 1\nclients: { wait: guest }\nsteps: [{ wait: 1ms }]', '`wait` begins a step of another kind'],
    [
      'drill: 1\nclients: { a: { guest: true, token: x } }\nsteps: [{ wait: 1ms }]',
      'one of user, guest: true and token',
    ],
    ['drill: 1\nclients: {}\nsteps: [{ wait: 1ms }]', 'expected at least one client'],
    ['drill: [', 'this is not YAML'],
  ])('%s is a mistake', (text, told) => {
    expect(faultsOf(text).join('\n')).toContain(told);
  });

  it('with every mistake at once', () => {
    expect(faultsOf(`${head}steps:\n  - cair: { enter: a }\n  - wait: soon\n`)).toHaveLength(2);
  });
});
