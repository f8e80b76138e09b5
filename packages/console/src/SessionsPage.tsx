import type { Backend, SessionInfo } from '@nine-bells/client/backend';
import { Button, Empty, Popconfirm } from 'antd';
import { useState } from 'react';
import { Link } from 'react-router-dom';
import { Find } from './Find.js';
import { Pager } from './Pager.js';
import { useChange } from './queries.js';
import { ScrollTable } from './ScrollTable.js';
import { Trouble } from './Trouble.js';
import { ago, texts } from './texts.js';
import { usePages } from './usePages.js';
import { useTitle } from './useTitle.js';

/** Lists the connected sessions, with their backlogs, and signs users out. */
export function SessionsPage({ backend, mayAct }: { readonly backend: Backend; readonly mayAct: boolean }) {
  const [find, setFind] = useState('');
  useTitle(texts.sessions);
  const found = usePages<SessionInfo>(
    ['sessions', find],
    async (query) => {
      const { sessions, next } = await backend.sessions({ ...query, ...(find === '' ? {} : { find }) });
      return { items: [...sessions].reverse(), next };
    },
    2000,
  );
  return (
    <main className="page">
      <h1>Sessions</h1>
      <Find hint={texts.findSession} onFind={setFind} />
      <Trouble of={[found.answer]} />
      <Sessions
        backend={backend}
        sessions={found.items}
        none={find === '' ? 'No client is connected' : 'No session has this in it'}
        mayAct={mayAct}
      />
      <Pager of={found} label="Pages of sessions" />
    </main>
  );
}

interface SessionsProps {
  readonly backend: Backend;
  readonly sessions: readonly SessionInfo[] | undefined;
  /** Text for an empty list. */
  readonly none: string;
  readonly mayAct: boolean;
}

function Sessions({ backend, sessions, none, mayAct }: SessionsProps) {
  const signOut = useChange(
    (user: string) => backend.signOut(user),
    ({ sessions: reached }, user) => `Signed out ${user}: ${reached} session${reached === 1 ? '' : 's'}`,
  );
  return (
    <ScrollTable<SessionInfo>
      label="Sessions"
      rowKey="session"
      loading={sessions === undefined}
      dataSource={[...(sessions ?? [])]}
      pagination={false}
      locale={{ emptyText: <Empty description={none} /> }}
      columns={[
        {
          title: 'User',
          render: (_, { name, user, guest, observer, workbench }) => (
            <>
              {observer ? (
                'looking on'
              ) : (
                <Link to={`/people?user=${encodeURIComponent(user)}`} title="What can be done?">
                  {name ?? user}
                </Link>
              )}{' '}
              {guest && <span className="faint">guest</span>}
              {workbench && <span className="faint">in the workbench</span>}
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
            <span title={names.join(', ')}>
              {names.length > 2
                ? `${names.length} channels`
                : names.map((channel) => (
                    <Link key={channel} to={`/channels/${channel}`} className="name">
                      {channel}{' '}
                    </Link>
                  ))}
            </span>
          ),
        },
        {
          title: 'Action',
          align: 'right',
          render: (_, { user, name, observer }) =>
            mayAct &&
            !observer && (
              <Popconfirm
                title={`Sign out ${name ?? user}?`}
                description={texts.signOutMeans}
                okText="Sign out"
                onConfirm={() => signOut.act(user)}
              >
                <Button size="small">Sign out</Button>
              </Popconfirm>
            ),
        },
      ]}
    />
  );
}
