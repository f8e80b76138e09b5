import type { Message } from '@nine-bells/client';
import type { Backend } from '@nine-bells/client/backend';
import { Button, Empty } from 'antd';
import { useEffect, useLayoutEffect, useRef, useState } from 'react';
import { Link } from 'react-router-dom';
import { MessageActions } from './MessageActions.js';
import { timeOfDay } from './texts.js';
import type { ChannelMessages, Shown } from './useChannelMessages.js';

/** How near an end counts as there, in pixels. */
const near = 60;

interface MessageListProps extends ChannelMessages {
  readonly backend: Backend;
  readonly mayPublish: boolean;
}

/** The messages of a channel: new ones below, earlier ones as you scroll up. */
export function MessageList({ shown, earlier, loadEarlier, backend, mayPublish }: MessageListProps) {
  const list = useRef<HTMLOListElement>(null);
  const heightBefore = useRef(0);
  const firstBefore = useRef<string | undefined>(undefined);
  const [atEnd, setAtEnd] = useState(true);
  const first = cursorOf(shown[0]);

  // Messages put in front must not push away what you read; what comes behind is followed only from the end.
  useLayoutEffect(() => {
    const element = list.current;
    if (element === null) return;
    if (firstBefore.current !== undefined && first !== firstBefore.current && !atEnd)
      element.scrollTop += element.scrollHeight - heightBefore.current;
    else if (atEnd && shown.length > 0) element.scrollTop = element.scrollHeight;
    firstBefore.current = first;
    heightBefore.current = element.scrollHeight;
  }, [shown, first, atEnd]);

  // A list that is not filled cannot be scrolled.
  useEffect(() => {
    const element = list.current;
    if (earlier && element !== null && element.scrollHeight <= element.clientHeight) void loadEarlier();
  }, [earlier, loadEarlier]);

  // When the list gets another height, its end moves; a reader who was at the end stays there.
  const filled = shown.length > 0;
  useEffect(() => {
    const element = list.current;
    if (!filled || !atEnd || element === null) return;
    const observer = new ResizeObserver(() => {
      element.scrollTop = element.scrollHeight;
    });
    observer.observe(element);
    return () => observer.disconnect();
  }, [filled, atEnd]);

  const onScroll = (): void => {
    const element = list.current as HTMLOListElement;
    setAtEnd(element.scrollHeight - element.scrollTop - element.clientHeight < near);
    if (earlier && element.scrollTop < near) void loadEarlier();
  };

  if (shown.length === 0) return <Empty className="messages" description="No message here yet" />;
  return (
    <div className="messages-box">
      <ol ref={list} className="messages" onScroll={onScroll}>
        <li className="faint edge">{earlier ? 'Earlier ones as you scroll up' : 'This is where the record begins'}</li>
        {shown.map((each) =>
          'message' in each ? (
            <MessageRow key={each.message.id} message={each.message} backend={backend} mayPublish={mayPublish} />
          ) : (
            <li key={`gap ${each.gap}`} className="gap">
              Some messages can no longer be recovered ({each.gap})
            </li>
          ),
        )}
      </ol>
      {!atEnd && (
        <Button
          className="to-end"
          size="small"
          type="primary"
          onClick={() => {
            const element = list.current as HTMLOListElement;
            element.scrollTop = element.scrollHeight;
          }}
        >
          To the latest
        </Button>
      )}
    </div>
  );
}

interface RowProps extends Pick<MessageListProps, 'backend' | 'mayPublish'> {
  readonly message: Message;
}

function MessageRow({ message, ...acting }: RowProps) {
  const { channel, cursor, at, by, type, data } = message;
  const text = plainText(data);
  return (
    <li>
      <code className="cursor">{cursor}</code>
      <time dateTime={at} title={at}>
        {timeOfDay(at)}
      </time>
      <span className="author" title={by?.user}>
        {by === undefined ? (
          <i>application</i>
        ) : (
          <Link to={`/people?${new URLSearchParams({ user: by.user, channel })}`}>{by.name ?? by.user}</Link>
        )}
      </span>
      <span className="body">
        {type !== 'message' && <span className="type">{type}</span>}
        {message.withdrawn ? null : (text ?? <code>{JSON.stringify(data)}</code>)}
        <Changed message={message} />
        <Whole message={message} {...acting} />
      </span>
    </li>
  );
}

/** That it was revised or withdrawn, when, by whom and why. */
function Changed({ message: { by, revisedAt, revisedBy, withdrawn, reason } }: { readonly message: Message }) {
  if (revisedAt === undefined) return null;
  const isOwn = revisedBy !== undefined && revisedBy.user === by?.user;
  return (
    <span className="faint changed" title={revisedAt}>
      {withdrawn ? 'withdrawn' : 'revised'}
      {!isOwn && ` by ${revisedBy?.name ?? revisedBy?.user ?? 'an application'}`} at {timeOfDay(revisedAt)}
      {reason !== undefined && `: ${reason}`}
    </span>
  );
}

/** All members of a message, made only when you look: most are never looked at. */
function Whole({ message, ...acting }: RowProps) {
  const [open, setOpen] = useState(false);
  return (
    <details onToggle={(event) => setOpen(event.currentTarget.open)}>
      <summary>Details</summary>
      {open && <pre>{JSON.stringify(message, null, 2)}</pre>}
      {open && <Link to={`/traces/${message.id}`}>What became of it?</Link>}
      {open && <MessageActions message={message} {...acting} />}
    </details>
  );
}

/** The data's text, where that is all it has. */
function plainText(data: Message['data']): string | undefined {
  if (typeof data !== 'object' || data === null || Array.isArray(data)) return undefined;
  const { text } = data as { text?: unknown };
  return typeof text === 'string' && Object.keys(data).length === 1 ? text : undefined;
}

function cursorOf(shown: Shown | undefined): string | undefined {
  return shown !== undefined && 'message' in shown ? shown.message.cursor : undefined;
}
