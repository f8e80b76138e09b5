import type { LineState } from '@nine-bells/client';
import type { Backend } from '@nine-bells/client/backend';
import { Alert } from 'antd';
import { useParams } from 'react-router-dom';
import { MessageList } from './MessageList.js';
import { PublishForm } from './PublishForm.js';
import { useChannelMessages } from './useChannelMessages.js';
import { usePolled } from './usePolled.js';

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
  const info = usePolled(() => backend.channel(channel), 2000);
  const here = usePolled(() => backend.members(channel, { limit: 50 }), 2000);
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
        {here !== undefined && (
          <p className="here">
            {here.count === 0 ? 'No members are here.' : `${here.count} here: `}
            {here.members.map(({ user, name, sessions, status }) => (
              <span key={user} title={`${user}, ${sessions} session${sessions === 1 ? '' : 's'}`}>
                {name ?? user}
                {status !== undefined && <span className="faint"> {statusText(status)}</span>}
              </span>
            ))}
            {here.more && <span className="faint">and others</span>}
          </p>
        )}
        <p role="status" className={messages.line.name === 'open' ? 'faint' : 'alarm'}>
          {lineText(messages.line)}
        </p>
      </div>
      {messages.refused === undefined ? (
        <>
          <MessageList {...messages} />
          {mayPublish && <PublishForm backend={backend} channel={channel} />}
        </>
      ) : (
        <Alert type="error" showIcon title={messages.refused.title} description={messages.refused.detail} />
      )}
    </main>
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
