import type { Backend } from '@nine-bells/client/backend';
import { firstMember } from '@nine-bells/drills/write';
import { type Json, requestMembers, type Verb, verbs } from '@nine-bells/wire';
import { AutoComplete, Button, Input, Segmented, Select, Tooltip } from 'antd';
import { useState, useSyncExternalStore } from 'react';
import { useAnswer } from '../queries.js';
import type { Bench, Done, Shown } from './bench.js';
import type { Members } from './recorder.js';

type Mode = 'act' | 'raw' | 'application';

const spoken = verbs.filter((verb) => verb !== 'hello');
const allClients = '(all)';
const usualRaw = '{"do":"publish","channel":"race/12/chat","data":{"text":"Ahoy"}}';
/** What the application's publish takes. */
const publishMembers = ['channel', 'data', 'type', 'key', 'by'];
/** What a member is like, where its name does not say. */
const hints: Readonly<Record<string, string>> = {
  channel: 'race/12/chat',
  data: '{"text": "Ahoy"}',
  entry: 'petrel',
  value: '{"x": 1}',
  user: 'tomas',
  reason: 'shouting',
  banMs: 'milliseconds',
  last: '20',
  by: '{"user": "mira"}',
};

/** What is done next: by form, by hand, or as the application; and what was done, to do again. */
export function Composer({
  backend,
  bench,
  clients,
}: {
  readonly backend: Backend;
  readonly bench: Bench;
  readonly clients: readonly Shown[];
}) {
  const done = useSyncExternalStore(bench.subscribe, () => bench.done);
  const { data: known } = useAnswer(['channels', 'workbench'], () => backend.channels({ limit: 200 }), 10_000);
  const [mode, setMode] = useState<Mode>('act');
  const [who, setWho] = useState<string>();
  const [verb, setVerb] = useState<Verb>('enter');
  const [values, setValues] = useState<Readonly<Record<string, string>>>({});
  const [raw, setRaw] = useState(usualRaw);

  const names = clients.map(({ wish }) => wish.name);
  const chosen = who !== undefined && (who === allClients || names.includes(who)) ? who : (names[0] ?? allClients);
  const from = chosen === allClients ? names : [chosen];
  const members = mode === 'application' ? publishMembers : membersOf(verb);
  const channels = [
    ...new Set([
      ...done.flatMap((each) => (typeof each.members.channel === 'string' ? [each.members.channel] : [])),
      ...(known?.channels ?? []).map(({ channel }) => channel),
    ]),
  ];

  const send = (): void => {
    if (mode === 'raw') {
      bench.raw(from, raw);
      return;
    }
    const given: Record<string, Json> = {};
    for (const name of members) {
      const text = values[name];
      if (text !== undefined && text !== '') given[name] = givenBy(name, text);
    }
    if (mode === 'application') void bench.publish({ data: null, ...given } as never);
    else bench.act(from, verb, given);
  };

  const edit = (each: Done): void => {
    setMode(each.raw !== undefined ? 'raw' : each.clients.length === 0 ? 'application' : 'act');
    if (each.clients.length > 0) setWho(each.clients.length === 1 ? each.clients[0] : allClients);
    if (each.raw !== undefined) {
      setRaw(each.raw);
      return;
    }
    setVerb(each.verb as Verb);
    setValues(Object.fromEntries(Object.entries(each.members).map(([name, value]) => [name, textOf(value)])));
  };

  return (
    <section className="composer" aria-label="What is done next">
      <form
        className="composer-form"
        onSubmit={(event) => {
          event.preventDefault();
          send();
        }}
      >
        <Segmented
          options={[
            { value: 'act', label: 'A client' },
            { value: 'raw', label: 'By hand' },
            { value: 'application', label: 'The application' },
          ]}
          value={mode}
          onChange={setMode}
        />
        <div className="composer-fields">
          {mode !== 'application' && (
            <div className="field">
              Client
              <Select
                aria-label="Client"
                value={chosen}
                onChange={setWho}
                options={[...names, ...(names.length > 1 ? [allClients] : [])].map((value) => ({
                  value,
                  label: value === allClients ? 'all of them' : value,
                }))}
              />
            </div>
          )}
          {mode === 'act' && (
            <div className="field">
              Does
              <Select
                aria-label="Does"
                showSearch
                value={verb}
                onChange={setVerb}
                options={spoken.map((value) => ({ value, label: value }))}
              />
            </div>
          )}
          {mode === 'raw' ? (
            <div className="field wide">
              The frame, sent as it stands
              <Input.TextArea
                aria-label="The frame"
                className="code"
                value={raw}
                autoSize={{ minRows: 2, maxRows: 8 }}
                onChange={({ target }) => setRaw(target.value)}
              />
            </div>
          ) : (
            members.map((name) => (
              <div key={name} className={name === 'data' ? 'field wide' : 'field'}>
                {name}
                {name === 'channel' ? (
                  <AutoComplete
                    aria-label={name}
                    value={values[name] ?? ''}
                    placeholder={hints[name]}
                    options={channels
                      .filter((each) => each.includes(values[name] ?? ''))
                      .map((value) => ({ value, label: value }))}
                    onChange={(text) => setValues({ ...values, [name]: text })}
                  />
                ) : (
                  <Input
                    aria-label={name}
                    className={name === 'data' ? 'code' : ''}
                    value={values[name] ?? ''}
                    placeholder={hints[name]}
                    onChange={({ target }) => setValues({ ...values, [name]: target.value })}
                  />
                )}
              </div>
            ))
          )}
          <Button type="primary" htmlType="submit">
            Send
          </Button>
        </div>
      </form>
      <div className="composer-done">
        <h2>Done so far</h2>
        <ol>
          {done.map((each) => (
            <li key={each.number}>
              <Tooltip title="Do it again">
                <button type="button" className="again" onClick={() => bench.again(each)}>
                  <b>{each.clients.length === 0 ? 'application' : each.clients.join(', ')}</b>{' '}
                  {each.raw ?? `${each.verb} ${textOf(each.members.channel ?? each.members.user ?? '')}`}
                </button>
              </Tooltip>
              <Button size="small" type="link" onClick={() => edit(each)}>
                edit
              </Button>
            </li>
          ))}
        </ol>
      </div>
    </section>
  );
}

/** The members of a request, the main one first. */
function membersOf(verb: Verb): readonly string[] {
  const names = requestMembers(verb);
  const first = firstMember[verb];
  return first === undefined ? names : [first, ...names.filter((name) => name !== first)];
}

/** JSON where it is JSON; any other text is a text. */
function givenBy(name: string, text: string): Json {
  // Ids and names of users may look like numbers.
  if (name === 'channel' || name === 'user' || name === 'reason' || name === 'type' || name === 'key') return text;
  try {
    return JSON.parse(text) as Json;
  } catch {
    return text;
  }
}

function textOf(value: Members[string]): string {
  return typeof value === 'string' ? value : JSON.stringify(value);
}
