import type { Backend, NumberedPending } from '@nine-bells/client/backend';
import { Button, Input, Popconfirm, Segmented } from 'antd';
import { useState } from 'react';
import { Link } from 'react-router-dom';
import { channelColumn, whenColumn } from './columns.js';
import { Pager } from './Pager.js';
import { useChange } from './queries.js';
import { ScrollTable } from './ScrollTable.js';
import { Trouble } from './Trouble.js';
import { type PageQuery, usePages } from './usePages.js';

/** Messages that wait for a moderator, and those that were refused. Shown where there are any. */
export function PendingMessages({ backend }: { readonly backend: Backend }) {
  const [state, setState] = useState<'waiting' | 'refused'>('waiting');
  const list = (which: typeof state) => async (query: PageQuery) => {
    const { pending: items, next } = await backend.pending({ ...query, state: which });
    return { items, next };
  };
  const waiting = usePages<NumberedPending>(['pending', 'waiting'], list('waiting'), 2000);
  const refused = usePages<NumberedPending>(
    ['pending', 'refused'],
    list('refused'),
    state === 'refused' ? 2000 : 30_000,
  );
  const pages = state === 'waiting' ? waiting : refused;
  const hasAny = [waiting, refused].some(({ items, previous }) => previous !== undefined || (items?.length ?? 0) > 0);
  if (!hasAny) return <Trouble of={[pages.answer]} />;
  return (
    <section>
      <h2>Messages before they are published</h2>
      <Segmented
        value={state}
        onChange={setState}
        options={[
          { value: 'waiting', label: 'Waiting' },
          { value: 'refused', label: 'Refused' },
        ]}
      />
      <Trouble of={[pages.answer]} />
      <ScrollTable<NumberedPending>
        label="Messages before they are published"
        rowKey="id"
        dataSource={[...(pages.items ?? [])]}
        pagination={false}
        scroll={{ x: 760 }}
        locale={{ emptyText: state === 'waiting' ? 'No message waits' : 'No message was refused' }}
        columns={[
          whenColumn,
          channelColumn,
          {
            title: 'Message',
            render: (_, { by, data, revises }) => (
              <span title={revises === undefined ? undefined : `It is to revise ${revises}`}>
                {by.name ?? by.user}: <code>{JSON.stringify(data)}</code>
              </span>
            ),
          },
          { title: state === 'waiting' ? 'Why it waits' : 'Why not', dataIndex: 'reason' },
          ...(state === 'waiting'
            ? [
                {
                  title: 'Action',
                  align: 'right' as const,
                  render: (_: unknown, each: NumberedPending) => <PendingActions backend={backend} message={each} />,
                },
              ]
            : []),
        ]}
      />
      <Pager of={pages} label="Pages of messages in review" />
    </section>
  );
}

/** Approves a message, or rejects it with a reason for its author. */
function PendingActions({ backend, message }: { readonly backend: Backend; readonly message: NumberedPending }) {
  const [reason, setReason] = useState('');
  const { id, channel, by, cleared } = message;
  const approve = useChange(
    () => backend.approve(id),
    ({ state }) => outcomes[state],
  );
  const reject = useChange(
    () => backend.reject(id, reason === '' ? {} : { reason }),
    () => outcomes.refused,
  );
  return (
    <span className="report-actions">
      <Link to={`/people?${new URLSearchParams({ user: by.user, channel })}`}>Act</Link>
      {cleared !== true && (
        <Button size="small" type="primary" ghost loading={approve.isPending} onClick={() => approve.act(undefined)}>
          Approve
        </Button>
      )}
      <Popconfirm
        title="Why not? The author is told."
        description={
          <Input
            aria-label="Why not"
            maxLength={500}
            value={reason}
            onChange={(event) => setReason(event.target.value)}
          />
        }
        okText="Reject it"
        onConfirm={() => reject.act(undefined)}
      >
        <Button size="small">Reject</Button>
      </Popconfirm>
    </span>
  );
}

const outcomes = {
  published: 'It is published',
  waiting: 'It is published when earlier messages of its author are decided',
  refused: 'It is refused',
  'taken-back': 'Its author has taken it back',
} as const;
