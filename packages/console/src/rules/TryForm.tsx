import { type Backend, BackendError } from '@nine-bells/client/backend';
import type { ChannelRuleInfo, DataFault, Json } from '@nine-bells/wire';
import { membersOf, type SchemaMember, snippetsOf } from '@nine-bells/wire/describe';
import { Button, Input, InputNumber, Segmented, Select, Switch } from 'antd';
import { useMemo, useState } from 'react';
import { Link } from 'react-router-dom';

type Data = Readonly<Record<string, Json | undefined>>;
type Outcome =
  | { readonly cursor: string; readonly channel: string }
  | { readonly problem: string; readonly faults: readonly DataFault[] };

/** Publishes a test message of one of the rule's types: a form made of its schema, begun with its example. */
export function TryForm({ backend, rule }: { readonly backend: Backend; readonly rule: ChannelRuleInfo }) {
  const types = Object.keys(rule.types ?? { message: {} });
  const [type, setType] = useState(types[0] ?? 'message');
  const [parameters, setParameters] = useState<Readonly<Record<string, string>>>({});
  const contract = rule.types?.[type];
  const members = useMemo(() => membersOf(contract?.schema), [contract]);
  const [edited, setEdited] = useState<Readonly<Record<string, Json | string | undefined>>>({});
  const [outcome, setOutcome] = useState<Outcome>();
  const [busy, setBusy] = useState(false);
  const channel = rule.pattern
    .split('/')
    .map((segment) => (segment.startsWith(':') ? (parameters[segment.slice(1)] ?? segment) : segment))
    .join('/');
  const isNamed = !channel.split('/').some((segment) => segment === '' || segment.startsWith(':'));
  const example = (contract?.example ?? {}) as Json;
  const written = edited[`${type} data`];
  const data: Json =
    members === undefined
      ? parsed(typeof written === 'string' ? written : JSON.stringify(example))
      : withoutAbsent({ ...(example as Data), ...(edited[type] as Data | undefined) });

  const set = (name: string, value: Json | undefined): void =>
    setEdited((all) => ({ ...all, [type]: { ...(all[type] as Data | undefined), [name]: value } as Json }));
  const publish = async (): Promise<void> => {
    setBusy(true);
    try {
      const { cursor } = await backend.publish({ channel, type, data });
      setOutcome({ cursor, channel });
    } catch (error) {
      const problem = error instanceof BackendError ? error.problem : undefined;
      setOutcome({
        problem: problem === undefined ? (error as Error).message : `${problem.title} (${problem.code})`,
        faults: problem?.faults ?? [],
      });
    }
    setBusy(false);
  };

  const faultOf = (name: string): DataFault | undefined =>
    outcome !== undefined && 'faults' in outcome
      ? outcome.faults.find(({ where }) => where.startsWith(`/data/${name}`))
      : undefined;
  return (
    <section className="try">
      <h2>Try it</h2>
      {types.length > 1 && (
        <Segmented
          aria-label="Type of the test message"
          options={types}
          value={type}
          onChange={(next) => setType(String(next))}
        />
      )}
      <div className="try-fields">
        {rule.pattern
          .split('/')
          .filter((segment) => segment.startsWith(':'))
          .map((segment) => (
            <div className="try-field" key={segment}>
              <code>{segment}</code>
              <Input
                aria-label={segment}
                value={parameters[segment.slice(1)] ?? ''}
                onChange={({ target }) => setParameters((all) => ({ ...all, [segment.slice(1)]: target.value }))}
              />
            </div>
          ))}
        {members?.map((member) => (
          <div className="try-field" key={member.name}>
            <code>{member.name}</code>
            <Field member={member} value={(data as Data)[member.name]} onChange={(value) => set(member.name, value)} />
            {faultOf(member.name) !== undefined && (
              <span className="alarm">expected {faultOf(member.name)?.expected}</span>
            )}
          </div>
        ))}
        {members === undefined && (
          <div className="try-field">
            <code>data</code>
            <Input.TextArea
              aria-label="data"
              className="code"
              autoSize={{ minRows: 2, maxRows: 8 }}
              value={typeof written === 'string' ? written : JSON.stringify(example)}
              onChange={({ target }) => setEdited((all) => ({ ...all, [`${type} data`]: target.value }))}
            />
          </div>
        )}
      </div>
      <div className="row-of-buttons">
        <Button type="primary" disabled={!isNamed} loading={busy} onClick={() => void publish()}>
          Publish
        </Button>
        <span role="status" className={outcome !== undefined && 'cursor' in outcome ? 'done' : 'alarm'}>
          {outcome === undefined ? null : 'cursor' in outcome ? (
            <>
              Published as {outcome.cursor} to <Link to={`/channels/${outcome.channel}`}>{outcome.channel}</Link>
            </>
          ) : (
            [outcome.problem, ...outcome.faults.map(({ where, expected }) => `${where}: expected ${expected}`)].join(
              '; ',
            )
          )}
        </span>
      </div>
      {snippetsOf(location.origin, channel, type, data).map(({ label, text }) => (
        <div className="snippet" key={label}>
          <span>{label}</span>
          <pre>{text}</pre>
          <Button
            size="small"
            onClick={() => void navigator.clipboard?.writeText(text)}
            aria-label={`Copy as ${label}`}
          >
            Copy
          </Button>
        </div>
      ))}
    </section>
  );
}

/** A field for one member, as its schema describes it. */
function Field({
  member: { name, field, choices = [] },
  value,
  onChange,
}: {
  readonly member: SchemaMember;
  readonly value: Json | undefined;
  readonly onChange: (value: Json | undefined) => void;
}) {
  if (field === 'choice')
    return (
      <Select
        aria-label={name}
        value={value === undefined ? undefined : JSON.stringify(value)}
        options={choices.map((each) => ({
          value: JSON.stringify(each),
          label: typeof each === 'string' ? each : JSON.stringify(each),
        }))}
        onChange={(text) => onChange(text === undefined ? undefined : (JSON.parse(text) as Json))}
      />
    );
  if (field === 'number')
    return (
      <InputNumber
        aria-label={name}
        value={typeof value === 'number' ? value : null}
        onChange={(next) => onChange(next ?? undefined)}
      />
    );
  if (field === 'flag') return <Switch aria-label={name} checked={value === true} onChange={onChange} />;
  const text = typeof value === 'string' ? value : value === undefined ? '' : JSON.stringify(value);
  return (
    <Input
      aria-label={name}
      value={text}
      onChange={({ target }) => onChange(field === 'text' ? target.value : parsed(target.value))}
    />
  );
}

/** What JSON says; text that is none stands for itself. */
function parsed(text: string): Json {
  try {
    return JSON.parse(text) as Json;
  } catch {
    return text;
  }
}

function withoutAbsent(data: Data): Json {
  return Object.fromEntries(Object.entries(data).filter(([, value]) => value !== undefined)) as Json;
}
