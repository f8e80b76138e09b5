import type { Backend, SessionInfo } from '@nine-bells/client/backend';
import { App, Button, Empty, Input, Popconfirm, Table } from 'antd';
import { useState } from 'react';
import { Link } from 'react-router-dom';
import { ago } from './texts.js';
import { usePolled } from './usePolled.js';

/** Who is connected: from where, how, for how long, how far behind; and signing them out. */
export function SessionsPage({ backend, mayAct }: { readonly backend: Backend; readonly mayAct: boolean }) {
  const [wanted, setWanted] = useState('');
  const sessions = usePolled(() => backend.sessions({ limit: 1000 }), 2000);
  const shown = (sessions?.sessions ?? []).filter(({ user, name, session, remote, channels }) =>
    [user, name, session, remote, ...channels].some((each) => each?.toLowerCase().includes(wanted.toLowerCase())),
  );
  return (
    <main className="page">
      <h1>Sessions</h1>
      <Input.Search
        allowClear
        placeholder="User, session, address or channel"
        aria-label="Find"
        className="find"
        onChange={({ target }) => setWanted(target.value)}
      />
      <Sessions
        backend={backend}
        sessions={sessions === undefined ? undefined : [...shown].reverse()}
        mayAct={mayAct}
      />
    </main>
  );
}

interface SessionsProps {
  readonly backend: Backend;
  readonly sessions: SessionInfo[] | undefined;
  readonly mayAct: boolean;
}

function Sessions({ backend, sessions, mayAct }: SessionsProps) {
  const { message } = App.useApp();
  const signOut = async (user: string): Promise<void> => {
    try {
      const { sessions: reached } = await backend.signOut(user);
      void message.success(`Signed out ${user}: ${reached} session${reached === 1 ? '' : 's'}`);
    } catch (error) {
      void message.error((error as Error).message);
    }
  };
  return (
    <Table<SessionInfo>
      size="small"
      rowKey="session"
      loading={sessions === undefined}
      dataSource={sessions ?? []}
      pagination={{ pageSize: 20, hideOnSinglePage: true }}
      scroll={{ x: 'max-content' }}
      locale={{ emptyText: <Empty description="No client is connected" /> }}
      columns={[
        {
          title: 'User',
          render: (_, { name, user, guest, observer }) => (
            <>
              {observer ? 'looking on' : (name ?? user)} {guest && <span className="faint">guest</span>}
            </>
          ),
        },
        {
          title: 'Session',
          dataIndex: 'session',
          render: (id: string, { observer }) =>
            observer ? (
              <code>{id}</code>
            ) : (
              <Link to={`/access?session=${id}`} title="What may it do?">
                <code>{id}</code>
              </Link>
            ),
        },
        { title: 'At', dataIndex: 'instance' },
        { title: 'From', dataIndex: 'remote' },
        { title: 'Since', dataIndex: 'since', render: (at: string) => ago(at) },
        {
          title: 'Round trip',
          dataIndex: 'roundTripMs',
          align: 'right',
          render: (ms?: number) => (ms === undefined ? '' : `${ms} ms`),
        },
        { title: 'Waiting', dataIndex: 'waitingBytes', align: 'right', render: (bytes: number) => `${bytes} B` },
        {
          title: 'Channels',
          dataIndex: 'channels',
          render: (names: readonly string[]) => (
            <span title={names.join(', ')}>{names.length > 2 ? `${names.length} channels` : names.join(', ')}</span>
          ),
        },
        {
          title: '',
          align: 'right',
          render: (_, { user, name, observer }) =>
            mayAct &&
            !observer && (
              <Popconfirm
                title={`Sign out ${name ?? user}?`}
                description="All its sessions end, and earlier tokens are revoked."
                okText="Sign out"
                onConfirm={() => signOut(user)}
              >
                <Button size="small">Sign out</Button>
              </Popconfirm>
            ),
        },
      ]}
    />
  );
}
