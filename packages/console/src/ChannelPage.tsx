import type { Json, LineState } from '@nine-bells/client';
import type { Backend } from '@nine-bells/client/backend';
import { Alert } from 'antd';
import { useParams } from 'react-router-dom';
import { MessageList } from './MessageList.js';
import { PublishForm } from './PublishForm.js';
import { useAnswer } from './queries.js';
import { ScrollTable } from './ScrollTable.js';
import { useChannelMessages } from './useChannelMessages.js';
import { useTitle } from './useTitle.js';

interface ChannelPageProps {
  readonly backend: Backend;
  readonly mayPublish: boolean;
}

/** One channel: its messages as they pass, its record, and a form to publish a test message. */
export function ChannelPage(props: ChannelPageProps) {
  const channel = useParams()['*'] ?? '';
  // By name: another channel is another list, not this one changed.
  return <OneChannel key={channel} channel={channel} {...props} />;
}

function OneChannel({ backend, channel, mayPublish }: ChannelPageProps & { readonly channel: string }) {
  const messages = useChannelMessages(backend, channel);
  useTitle(channel);
  const info = useAnswer(['channel', channel], () => backend.channel(channel), 2000).data;
  const here = useAnswer(
    ['members', channel, info?.presence],
    async () => (info?.presence ? backend.members(channel, { limit: 50 }) : null),
    2000,
  ).data;
  return (
    <main className="page channel-page">
      <div className="channel-head">
        <h1 className="name">{channel}</h1>
        <p>
          {info?.about}
          <span className="faint">
            {info !== undefined &&
              ` rule ${info.pattern ?? '(none)'}, logbook ${info.logbook ?? '(none)'}, entered by ${info.entered}`}
          </span>
        </p>
        {here && (
          <p className="here">
            {here.count === 0 ? 'No members are here.' : `${here.count} here: `}
            {here.members.map(({ user, name, sessions, status }) => (
              <span key={user} title={`${user}, ${sessions} session${sessions === 1 ? '' : 's'}`}>
                {name ?? user}
                {status !== undefined && <span className="faint"> {statusText(status)}</span>}
              </span>
            ))}
            {here.next !== undefined && <span className="faint">and others</span>}
          </p>
        )}
        <p role="status" className={messages.line.name === 'open' ? 'faint' : 'alarm'}>
          {lineText(messages.line)}
        </p>
      </div>
      {messages.refused === undefined ? (
        <>
          {messages.board !== undefined && <BoardTable entries={messages.board} />}
          <MessageList {...messages} backend={backend} mayPublish={mayPublish} />
          {mayPublish && <PublishForm backend={backend} channel={channel} />}
        </>
      ) : (
        <Alert type="error" showIcon title={messages.refused.title} description={messages.refused.detail} />
      )}
    </main>
  );
}

/** The board of the channel, as it is now. */
function BoardTable({ entries }: { readonly entries: readonly (readonly [string, Json])[] }) {
  if (entries.length === 0) return <p className="faint">Nothing is on the board.</p>;
  return (
    <section className="board" aria-label="Board">
      <ScrollTable<{ readonly entry: string; readonly value: string }>
        label="Board"
        rowKey="entry"
        size="small"
        pagination={false}
        dataSource={entries.map(([entry, value]) => ({ entry, value: JSON.stringify(value) }))}
        columns={[
          { title: 'Entry', dataIndex: 'entry' },
          { title: 'Value', dataIndex: 'value', render: (value: string) => <code>{value}</code> },
        ]}
      />
    </section>
  );
}

function statusText(status: unknown): string {
  if (typeof status === 'string') return status;
  const { state } = status as { state?: unknown };
  return typeof state === 'string' ? state : JSON.stringify(status);
}

function lineText(line: LineState): string {
  switch (line.name) {
    case 'open':
      return 'Messages appear here as they pass.';
    case 'connecting':
      return 'Connecting…';
    case 'waiting':
      return `Not connected: ${line.reason}. Trying again soon; nothing will be missed.`;
    case 'closed':
      return `Closed: ${line.reason}`;
  }
}
