import { type Actor, type AuditEntry, type Backend, BackendError, type Ban } from '@nine-bells/client/backend';
import { App, AutoComplete, Button, Empty, Form, Input, Segmented, Select, Table } from 'antd';
import { useState } from 'react';
import { dayTime } from './texts.js';
import { usePolled } from './usePolled.js';

type Deed = 'remove' | 'ban' | 'sign-out' | 'revoke-tokens';

interface Fields {
  readonly did: Deed;
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

const meaning: Readonly<Record<Deed, string>> = {
  remove: 'Ends the stay in one channel. The user is told who did it and why.',
  ban: 'Keeps the user out of a channel, or without one, of the whole service.',
  'sign-out': 'Ends all sessions of the user and revokes earlier tokens.',
  'revoke-tokens': 'Takes no token of the user that was issued until now. With a newer one it comes back by itself.',
};

/** Moderation: what can be done, who is banned, and who did what. */
export function ModerationPage({ backend, mayAct }: { readonly backend: Backend; readonly mayAct: boolean }) {
  const bans = usePolled(() => backend.bans({ limit: 1000 }), 2000);
  const audit = usePolled(() => (mayAct ? backend.audit({ limit: 200 }) : Promise.resolve(undefined)), 2000);
  return (
    <main className="page moderation-page">
      {mayAct ? (
        <MeasureForm backend={backend} />
      ) : (
        <p className="faint">
          You can look here but not act: the key that you signed in with does not have the right to moderate.
        </p>
      )}
      <section>
        <h2>Bans in force</h2>
        <Bans backend={backend} bans={bans?.bans} mayAct={mayAct} />
      </section>
      {mayAct && (
        <section>
          <h2>Who did what</h2>
          <Audit entries={audit?.entries} />
        </section>
      )}
    </main>
  );
}

function MeasureForm({ backend }: { readonly backend: Backend }) {
  const [form] = Form.useForm<Fields>();
  const [outcome, setOutcome] = useState<{ ok: boolean; text: string }>();
  const [busy, setBusy] = useState(false);
  const did = Form.useWatch('did', form) ?? 'remove';
  const sessions = usePolled(() => backend.sessions({ limit: 1000 }), 5000);
  const users = [
    ...new Map((sessions?.sessions ?? []).filter(({ observer }) => !observer).map((each) => [each.user, each])),
  ];

  const act = async (fields: Fields): Promise<void> => {
    setBusy(true);
    setOutcome(undefined);
    try {
      const { sessions: reached } = await done(backend, { ...fields, did });
      const where =
        reached === 0 ? 'It was not there just now.' : `It reached ${reached} session${reached === 1 ? '' : 's'}.`;
      setOutcome({ ok: true, text: `Done. ${where}` });
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
      initialValues={{ did: 'remove', forMs: 10 * 60_000 }}
      onFinish={act}
    >
      <h1>Remove, ban, sign out</h1>
      <Form.Item name="did">
        <Segmented
          options={[
            { value: 'remove', label: 'Remove' },
            { value: 'ban', label: 'Ban' },
            { value: 'sign-out', label: 'Sign out' },
            { value: 'revoke-tokens', label: 'Revoke tokens' },
          ]}
        />
      </Form.Item>
      <p className="faint">{meaning[did]}</p>
      <div className="action-row">
        <Form.Item name="user" label="User" rules={[{ required: true, message: 'A user is needed' }]}>
          <AutoComplete
            showSearch={{ filterOption: true }}
            placeholder="ines"
            options={users.map(([user, { name }]) => ({
              value: user,
              label: name === undefined ? user : `${name} (${user})`,
            }))}
          />
        </Form.Item>
        {(did === 'remove' || did === 'ban') && (
          <>
            <Form.Item
              name="channel"
              label={did === 'remove' ? 'From the channel' : 'From the channel (or all)'}
              rules={[{ required: did === 'remove', message: 'A channel is needed' }]}
            >
              <Input placeholder="protest/7" />
            </Form.Item>
            <Form.Item name="forMs" label="Keep out">
              <Select options={times.filter(({ value }) => (did === 'remove' ? value >= 0 : value !== 0))} />
            </Form.Item>
          </>
        )}
        <Form.Item name="reason" label="Reason, told to the user">
          <Input maxLength={500} />
        </Form.Item>
        <Button type="primary" htmlType="submit" loading={busy}>
          {did === 'remove' ? 'Remove' : did === 'ban' ? 'Ban' : did === 'sign-out' ? 'Sign out' : 'Revoke'}
        </Button>
      </div>
      <p role="status" className={outcome?.ok ? 'done' : 'alarm'}>
        {outcome?.text}
      </p>
    </Form>
  );
}

function done(backend: Backend, { did, user, channel, forMs, reason }: Fields) {
  const why = reason ? { reason } : {};
  if (did === 'sign-out') return backend.signOut(user, reason);
  if (did === 'revoke-tokens') return backend.revokeTokens(user, reason);
  if (did === 'remove') return backend.remove({ user, channel: channel ?? '', banMs: Math.max(0, forMs), ...why });
  return backend.ban({ user, ...(channel ? { channel } : {}), ...(forMs > 0 ? { forMs } : {}), ...why });
}

function Bans({ backend, bans, mayAct }: { backend: Backend; bans: readonly Ban[] | undefined; mayAct: boolean }) {
  const { message } = App.useApp();
  const unban = async (id: string): Promise<void> => {
    try {
      await backend.unban(id);
      void message.success('The ban is lifted');
    } catch (error) {
      void message.error((error as Error).message);
    }
  };
  return (
    <Table<Ban>
      size="small"
      rowKey="id"
      loading={bans === undefined}
      dataSource={[...(bans ?? [])]}
      pagination={{ pageSize: 10, hideOnSinglePage: true }}
      scroll={{ x: 'max-content' }}
      locale={{ emptyText: <Empty description="No bans are in force" /> }}
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
          title: '',
          align: 'right',
          render: (_, { id }) =>
            mayAct && (
              <Button size="small" onClick={() => void unban(id)}>
                Unban
              </Button>
            ),
        },
      ]}
    />
  );
}

function Audit({ entries }: { entries: readonly AuditEntry[] | undefined }) {
  return (
    <Table<AuditEntry>
      size="small"
      rowKey="number"
      loading={entries === undefined}
      dataSource={[...(entries ?? [])]}
      pagination={{ pageSize: 20, hideOnSinglePage: true }}
      scroll={{ x: 760 }}
      locale={{ emptyText: <Empty description="Nothing has been done about anybody yet" /> }}
      columns={[
        { title: 'When', dataIndex: 'at', width: '11rem', render: (at: string) => dayTime(at) },
        { title: 'By', dataIndex: 'by', render: (by: Actor) => actorText(by) },
        { title: 'Did', dataIndex: 'did', className: 'unbroken' },
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
  );
}

function actorText({ user, key, name }: Actor): string {
  if (user !== undefined) return name ?? user;
  return key === undefined ? 'the service' : `key ${name ?? key}`;
}
