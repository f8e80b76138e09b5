import type { EarlierRevision, Message, ReactorsReply } from '@nine-bells/client';
import type { Backend } from '@nine-bells/client/backend';
import { Button, Input, Popconfirm } from 'antd';
import { useState } from 'react';
import { reasonOf } from './PublishForm.js';
import { timeOfDay } from './texts.js';

interface MessageActionsProps {
  readonly backend: Backend;
  readonly message: Message;
  readonly mayPublish: boolean;
}

/** What can be done with a message: revise it, withdraw it, and see what it held before. */
export function MessageActions({ backend, message, mayPublish }: MessageActionsProps) {
  const { channel, cursor, id, data, revision = null, withdrawn } = message;
  const [draft, setDraft] = useState<string>();
  const [reason, setReason] = useState('');
  const [fault, setFault] = useState<string>();
  const [reactions, setReactions] = useState<ReactorsReply>();
  const [earlier, setEarlier] = useState<readonly EarlierRevision[]>();
  const about = { channel, cursor, message: id, ifRevision: revision };
  const act = async (what: () => Promise<unknown>): Promise<void> => {
    setFault(undefined);
    try {
      await what();
      setDraft(undefined);
    } catch (error) {
      setFault(reasonOf(error));
    }
  };
  const revise = () => act(() => backend.revise({ ...about, data: JSON.parse(draft ?? 'null') }));
  const withdraw = () => act(() => backend.withdraw({ ...about, ...(reason === '' ? {} : { reason }) }));
  const look = () => act(async () => setEarlier((await backend.revisions(channel, cursor)).revisions));
  const count = () => act(async () => setReactions(await backend.reactors(channel, cursor)));

  return (
    <div className="message-actions">
      {mayPublish && !withdrawn && (
        <>
          <Button size="small" onClick={() => setDraft(draft === undefined ? JSON.stringify(data) : undefined)}>
            Revise
          </Button>
          <Popconfirm
            title="Withdraw this message? What it holds will be gone."
            description={
              <Input
                aria-label="Reason"
                placeholder="Why (shown with the message)"
                value={reason}
                maxLength={500}
                onChange={(event) => setReason(event.target.value)}
              />
            }
            okText="Withdraw"
            onConfirm={withdraw}
          >
            <Button size="small">Withdraw</Button>
          </Popconfirm>
        </>
      )}
      {revision !== null && !withdrawn && (
        <Button size="small" onClick={look}>
          What did it hold before?
        </Button>
      )}
      {!withdrawn && (
        <Button size="small" onClick={count}>
          Who has reacted?
        </Button>
      )}
      {fault !== undefined && (
        <span role="alert" className="alarm">
          {fault}
        </span>
      )}
      {draft !== undefined && (
        <div className="message-draft">
          <Input.TextArea
            aria-label="What it is to hold, as JSON"
            className="code"
            autoSize={{ minRows: 1, maxRows: 8 }}
            value={draft}
            onChange={(event) => setDraft(event.target.value)}
          />
          <Button size="small" type="primary" onClick={revise}>
            Save
          </Button>
        </div>
      )}
      {reactions?.reactors.length === 0 && <p className="faint">No user has reacted to it.</p>}
      {wordsOf(reactions).map(([word, names]) => (
        <p key={word} className="faint">
          {word} {names.length}: {names.join(', ')}
        </p>
      ))}
      {reactions?.next !== undefined && <p className="faint">And more: these are the first 100.</p>}
      {earlier?.length === 0 && <p className="faint">Nothing is kept of what it held before.</p>}
      {earlier?.map((each) => (
        <p key={each.revision ?? 'published'} className="faint">
          {timeOfDay(each.at)} {each.by?.name ?? each.by?.user ?? 'an application'}:{' '}
          <code>{JSON.stringify(each.data)}</code>
        </p>
      ))}
    </div>
  );
}

/** Who has reacted, by the word. */
function wordsOf(reply: ReactorsReply | undefined): (readonly [word: string, names: readonly string[]])[] {
  const all = new Map<string, string[]>();
  for (const { word, user, name = user } of reply?.reactors ?? []) all.set(word, [...(all.get(word) ?? []), name]);
  return [...all];
}
