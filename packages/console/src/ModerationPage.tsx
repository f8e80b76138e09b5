import {
  type Actor,
  type AuditEntry,
  type Author,
  type Backend,
  BackendError,
  type Ban,
  type MessageReport,
  type Silence,
} from '@nine-bells/client/backend';
import { App, AutoComplete, Button, Empty, Form, Input, Popconfirm, Segmented, Select } from 'antd';
import { useDeferredValue, useState } from 'react';
import { Link, useSearchParams } from 'react-router-dom';
import { channelColumn, whenColumn } from './columns.js';
import { Find } from './Find.js';
import { Pager } from './Pager.js';
import { PendingMessages } from './PendingMessages.js';
import { queries, useAnswer, useChange } from './queries.js';
import { ScrollTable } from './ScrollTable.js';
import { Trouble } from './Trouble.js';
import { dayTime, texts } from './texts.js';
import { pageRows, usePages } from './usePages.js';
import { useTitle } from './useTitle.js';

type Action = 'remove' | 'silence' | 'ban' | 'sign-out' | 'revoke-tokens';

interface Fields {
  readonly action: Action;
  readonly user: string;
  readonly channel?: string;
  readonly forMs: number;
  readonly reason?: string;
}

const hour = 3_600_000;
const times = [
  { value: 0, label: 'not at all' },
  { value: 10 * 60_000, label: '10 minutes' },
  { value: hour, label: '1 hour' },
  { value: 24 * hour, label: '1 day' },
  { value: 7 * 24 * hour, label: '1 week' },
  { value: -1, label: 'until it is lifted' },
];

const labels: Readonly<Record<Action, string>> = {
  remove: 'Remove',
  silence: 'Silence',
  ban: 'Ban',
  'sign-out': 'Sign out',
  'revoke-tokens': 'Revoke tokens',
};

const placeLabels = {
  remove: 'From the channel',
  silence: 'In the channel (or all)',
  ban: 'From the channel (or all)',
} as const;

const meaning: Readonly<Record<Action, string>> = {
  remove: 'Ends the stay in one channel. The user is told who did it and why.',
  silence: 'Lets the user read and not write, in a channel or, without one, everywhere.',
  ban: 'Keeps the user out of a channel, or without one, of the whole service.',
  'sign-out': 'Ends all sessions of the user and revokes earlier tokens.',
  'revoke-tokens': 'Revokes the tokens of the user issued until now. With a newer one the user comes back by itself.',
};

/** Moderation: what can be done, who is banned, and who did what. */
export function ModerationPage({ backend, mayAct }: { readonly backend: Backend; readonly mayAct: boolean }) {
  useTitle(texts.people);
  // Resets the form for another user.
  const [params] = useSearchParams();
  return (
    <main className="page moderation-page">
      {mayAct ? (
        <ModerationForm key={params.toString()} backend={backend} />
      ) : (
        <p className="faint">
          You can look here but not act: the key that you signed in with does not have the right to moderate.
        </p>
      )}
      {mayAct && <PendingMessages backend={backend} />}
      {mayAct && <Reports backend={backend} />}
      <Bans backend={backend} mayAct={mayAct} />
      <Silences backend={backend} mayAct={mayAct} />
      {mayAct && <Audit backend={backend} />}
    </main>
  );
}

function ModerationForm({ backend }: { readonly backend: Backend }) {
  const [form] = Form.useForm<Fields>();
  const [outcome, setOutcome] = useState<{ ok: boolean; text: string }>();
  const [busy, setBusy] = useState(false);
  const action = Form.useWatch('action', form) ?? 'remove';
  const [typed, setTyped] = useState('');
  const find = useDeferredValue(typed);
  const { data: sessions } = useAnswer(
    ['users', find],
    () => backend.sessions({ limit: pageRows, ...(find === '' ? {} : { find }) }),
    5000,
  );
  const [params] = useSearchParams();
  const { modal } = App.useApp();
  const users = [
    ...new Map((sessions?.sessions ?? []).filter(({ observer }) => !observer).map((each) => [each.user, each])),
  ];

  const ask = (fields: Fields): void => {
    modal.confirm({
      title: `${labels[action]} ${fields.user}?`,
      content: meaning[action],
      okText: labels[action],
      onOk: () => act(fields),
    });
  };

  const act = async (fields: Fields): Promise<void> => {
    setBusy(true);
    setOutcome(undefined);
    try {
      const { sessions: reached } = await done(backend, { ...fields, action });
      const where =
        reached === 0 ? 'No sessions were affected.' : `It reached ${reached} session${reached === 1 ? '' : 's'}.`;
      setOutcome({ ok: true, text: `Done. ${where}` });
      void queries.invalidateQueries();
    } catch (error) {
      setOutcome({ ok: false, text: error instanceof BackendError ? error.message : String(error) });
    }
    setBusy(false);
  };

  return (
    <Form<Fields>
      form={form}
      layout="vertical"
      className="action-form"
      initialValues={{
        action: 'remove',
        forMs: 10 * 60_000,
        user: params.get('user') ?? undefined,
        channel: params.get('channel') ?? undefined,
      }}
      onFinish={ask}
    >
      <h1>Remove, silence, ban, sign out</h1>
      <Form.Item name="action">
        <Segmented
          options={[
            { value: 'remove', label: 'Remove' },
            { value: 'silence', label: 'Silence' },
            { value: 'ban', label: 'Ban' },
            { value: 'sign-out', label: 'Sign out' },
            { value: 'revoke-tokens', label: 'Revoke tokens' },
          ]}
        />
      </Form.Item>
      <p className="faint">{meaning[action]}</p>
      <div className="action-row">
        <Form.Item name="user" label="User" rules={[{ required: true, message: 'A user is needed' }]}>
          <AutoComplete
            showSearch={{ filterOption: true, onSearch: setTyped }}
            placeholder="ines"
            options={users.map(([user, { name }]) => ({
              value: user,
              label: name === undefined ? user : `${name} (${user})`,
            }))}
          />
        </Form.Item>
        {(action === 'remove' || action === 'silence' || action === 'ban') && (
          <>
            <Form.Item
              name="channel"
              label={placeLabels[action]}
              rules={[{ required: action === 'remove', message: 'A channel is needed' }]}
            >
              <Input placeholder="protest/7" />
            </Form.Item>
            <Form.Item name="forMs" label={action === 'silence' ? 'For' : 'Keep out'}>
              <Select options={times.filter(({ value }) => (action === 'remove' ? value >= 0 : value !== 0))} />
            </Form.Item>
          </>
        )}
        <Form.Item name="reason" label="Reason, told to the user">
          <Input maxLength={500} />
        </Form.Item>
        <Button type="primary" htmlType="submit" loading={busy}>
          {labels[action]}
        </Button>
      </div>
      <p role="status" className={outcome?.ok ? 'done' : 'alarm'}>
        {outcome?.text}
      </p>
    </Form>
  );
}

function done(backend: Backend, { action, user, channel, forMs, reason }: Fields) {
  const why = reason ? { reason } : {};
  if (action === 'sign-out') return backend.signOut(user, reason);
  if (action === 'revoke-tokens') return backend.revokeTokens(user, reason);
  if (action === 'remove') return backend.remove({ user, channel: channel ?? '', banMs: Math.max(0, forMs), ...why });
  const wish = { user, ...(channel ? { channel } : {}), ...(forMs > 0 ? { forMs } : {}), ...why };
  return action === 'silence' ? backend.silence(wish) : backend.ban(wish);
}

function Bans({ backend, mayAct }: { readonly backend: Backend; readonly mayAct: boolean }) {
  const [find, setFind] = useState('');
  const bans = usePages<Ban>(
    ['bans', find],
    async (query) => {
      const { bans: items, next } = await backend.bans({ ...query, ...(find === '' ? {} : { find }) });
      return { items, next };
    },
    2000,
  );
  const unban = useChange(
    (id: string) => backend.unban(id),
    () => 'The ban is lifted',
  );
  return (
    <section>
      <h2>Bans in force</h2>
      <Find hint={texts.findBan} onFind={setFind} />
      <Trouble of={[bans.answer]} />
      <ScrollTable<Ban>
        label="Bans in force"
        rowKey="id"
        loading={bans.items === undefined}
        dataSource={[...(bans.items ?? [])]}
        pagination={false}
        locale={{ emptyText: <Empty description={find === '' ? 'No bans are in force' : 'No ban has this in it'} /> }}
        columns={[
          { title: 'Whom', render: (_, { user, address }) => <code>{user ?? address}</code> },
          { title: 'From', dataIndex: 'channel', render: (channel?: string) => channel ?? 'the whole service' },
          {
            title: 'Until',
            dataIndex: 'until',
            render: (until?: string) => (until === undefined ? 'it is lifted' : dayTime(until)),
          },
          { title: 'By', dataIndex: 'by', render: (by: Actor) => actorText(by) },
          { title: 'Why', dataIndex: 'reason' },
          {
            title: 'Action',
            align: 'right',
            render: (_, { id, user, address }) =>
              mayAct && (
                <Popconfirm
                  title={`Unban ${user ?? address}?`}
                  description={texts.unbanMeans}
                  okText="Unban"
                  onConfirm={() => unban.act(id)}
                >
                  <Button size="small">Unban</Button>
                </Popconfirm>
              ),
          },
        ]}
      />
      <Pager of={bans} label="Pages of bans" />
    </section>
  );
}

function Audit({ backend }: { readonly backend: Backend }) {
  const [user, setUser] = useState('');
  const entries = usePages<AuditEntry>(
    ['audit', user],
    async (query) => {
      const { entries: items, next } = await backend.audit({ ...query, ...(user === '' ? {} : { user }) });
      return { items, next };
    },
    2000,
  );
  return (
    <section>
      <h2>Who did what</h2>
      <Find hint={texts.findAudit} onFind={setUser} />
      <Trouble of={[entries.answer]} />
      <ScrollTable<AuditEntry>
        label="Who did what"
        rowKey="number"
        loading={entries.items === undefined}
        dataSource={[...(entries.items ?? [])]}
        pagination={false}
        scroll={{ x: 760 }}
        locale={{
          emptyText: (
            <Empty description={user === '' ? 'The audit log is empty' : 'Nothing was done about this user'} />
          ),
        }}
        columns={[
          { title: 'When', dataIndex: 'at', width: '14rem', render: (at: string) => dayTime(at) },
          { title: 'By', dataIndex: 'by', render: (by: Actor) => actorText(by) },
          { title: 'Action', dataIndex: 'type', className: 'unbroken' },
          { title: 'Whom', render: (_, { user, address, about }) => user ?? address ?? about },
          { title: 'Where', dataIndex: 'channel' },
          {
            title: 'Until',
            dataIndex: 'until',
            className: 'unbroken',
            render: (until?: string) => (until === undefined ? '' : dayTime(until)),
          },
          { title: 'Why', dataIndex: 'reason' },
        ]}
      />
      <Pager of={entries} label="Pages of the audit log" />
    </section>
  );
}

function actorText({ user, key, name }: Actor): string {
  if (user !== undefined) return name ?? user;
  return key === undefined ? 'the service' : `key ${name ?? key}`;
}

function Silences({ backend, mayAct }: { readonly backend: Backend; readonly mayAct: boolean }) {
  const answer = useAnswer(['silences'], () => backend.silences({ limit: 1000 }), 2000);
  const end = useChange(
    (id: string) => backend.endSilence(id),
    () => 'The silence has ended',
  );
  const all = answer.data?.silences ?? [];
  // Most services have none.
  if (all.length === 0) return <Trouble of={[answer]} />;
  return (
    <section>
      <h2>Silences in force</h2>
      <ScrollTable<Silence>
        label="Silences in force"
        rowKey="id"
        dataSource={[...all]}
        pagination={false}
        columns={[
          { title: 'Whom', render: (_, { user }) => <code>{user}</code> },
          { title: 'Where', dataIndex: 'channel', render: (channel?: string) => channel ?? 'everywhere' },
          {
            title: 'May',
            dataIndex: 'everyMs',
            render: (everyMs?: number) => (everyMs === undefined ? 'read' : `publish once in ${everyMs / 1000} s`),
          },
          {
            title: 'Until',
            dataIndex: 'until',
            render: (until?: string) => (until === undefined ? 'it is ended' : dayTime(until)),
          },
          { title: 'By', dataIndex: 'by', render: (by: Actor) => actorText(by) },
          { title: 'Why', dataIndex: 'reason' },
          {
            title: 'Action',
            align: 'right',
            render: (_, { id }) =>
              mayAct && (
                <Button size="small" onClick={() => end.act(id)}>
                  End
                </Button>
              ),
          },
        ]}
      />
    </section>
  );
}

/** Reported messages, with reporter, reason and outcome. */
function Reports({ backend }: { readonly backend: Backend }) {
  const [state, setState] = useState<'open' | 'ended'>('open');
  const pages = usePages<MessageReport>(
    ['reports', state],
    async (query) => {
      const { reports: items, next } = await backend.reports({ ...query, state });
      return { items, next };
    },
    2000,
  );
  return (
    <section>
      <h2>Reported messages</h2>
      <Segmented
        value={state}
        onChange={setState}
        options={[
          { value: 'open', label: 'Open' },
          { value: 'ended', label: 'Ended' },
        ]}
      />
      <Trouble of={[pages.answer]} />
      <ScrollTable<MessageReport>
        label="Reported messages"
        rowKey="id"
        dataSource={[...(pages.items ?? [])]}
        pagination={false}
        scroll={{ x: 760 }}
        locale={{ emptyText: state === 'open' ? 'No reports are open' : 'No reports have ended' }}
        columns={[
          whenColumn,
          channelColumn,
          {
            title: 'Message',
            render: (_, { message, cursor }) => (
              <span title={`${cursor}, ${dayTime(message.at)}`}>
                {message.by?.name ?? message.by?.user ?? 'An application'}: <code>{JSON.stringify(message.data)}</code>
              </span>
            ),
          },
          { title: 'Reported by', dataIndex: 'by', className: 'unbroken', render: (by: Author) => by.name ?? by.user },
          { title: 'Why', dataIndex: 'reason' },
          state === 'open'
            ? {
                title: 'Action',
                align: 'right',
                render: (_, report) => <ReportActions backend={backend} report={report} />,
              }
            : {
                title: 'What was done',
                render: (_, { ended }) =>
                  ended && `${actorText(ended.by)}, ${dayTime(ended.at)}: ${ended.note ?? 'nothing said'}`,
              },
        ]}
      />
      <Pager of={pages} label="Pages of reports" />
    </section>
  );
}

/** Actions on a report: act on the author, or end it with a note. */
function ReportActions({ backend, report }: { readonly backend: Backend; readonly report: MessageReport }) {
  const [note, setNote] = useState('');
  const { id, channel, message } = report;
  const end = useChange(
    () => backend.endReport(id, note === '' ? {} : { note }),
    () => 'The report has ended',
  );
  return (
    <span className="report-actions">
      {message.by !== undefined && (
        <Link to={`/people?${new URLSearchParams({ user: message.by.user, channel })}`}>Act</Link>
      )}
      <Popconfirm
        title="What was done?"
        description={
          <Input
            aria-label="What was done"
            maxLength={500}
            value={note}
            onChange={(event) => setNote(event.target.value)}
          />
        }
        okText="End the report"
        onConfirm={() => end.act(undefined)}
      >
        <Button size="small">Done</Button>
      </Popconfirm>
    </span>
  );
}
