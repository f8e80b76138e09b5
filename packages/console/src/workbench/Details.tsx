import type { Backend, Explanation, Trace } from '@nine-bells/client/backend';
import { Alert, Button, Segmented } from 'antd';
import { useEffect, useState } from 'react';
import { Answer } from '../AccessPage.js';
import type { Shown } from './bench.js';
import { isMissing, type Passed, type Row } from './recorder.js';

/** A line of the sheet, at one client. */
export interface Chosen {
  readonly row: Row;
  readonly client: string;
}

/** Acts in a channel of which it can be asked who may do them. */
const explained: Readonly<Record<string, string>> = {
  enter: 'enter',
  read: 'read',
  publish: 'publish',
  revise: 'revise',
  withdraw: 'withdraw',
  hail: 'hail',
  mark: 'read',
  remove: 'moderate',
};

/** The frames of a line in full, and why something was refused or did not arrive. */
export function Details({
  backend,
  clients,
  chosen: { row, client },
}: {
  readonly backend: Backend;
  readonly clients: readonly Shown[];
  readonly chosen: Chosen;
}) {
  const shown = clients.find(({ wish }) => wish.name === client);
  const frames: [string, Passed | undefined][] =
    row.kind === 'act'
      ? [
          [`${client} sent`, { atMs: row.atMs, text: row.text, how: 'pushed' }],
          ['The reply', row.reply],
        ]
      : row.kind === 'push'
        ? [...row.arrivals].map(([name, passed]) => [`${name} received`, passed])
        : [[client === '' ? 'The application' : client, { atMs: row.atMs, text: row.text ?? '', how: 'pushed' }]];
  return (
    <div className="details">
      {row.kind === 'act' && row.problem !== undefined && (
        <>
          <Alert type="error" title={`${row.problem.code}: ${row.problem.detail ?? row.problem.title}`} />
          {explained[row.verb] !== undefined && typeof row.members.channel === 'string' && (
            <Why
              backend={backend}
              shown={shown}
              act={explained[row.verb] as string}
              channel={row.members.channel}
              about={row.verb === 'revise' || row.verb === 'withdraw' ? String(row.members.cursor) : undefined}
            />
          )}
        </>
      )}
      {row.kind === 'push' && isMissing(row, client) && (
        <>
          <h2>Why {client} did not get it</h2>
          <Why
            backend={backend}
            shown={shown}
            act="enter"
            channel={String(row.frame.channel)}
            message={String(row.frame.id)}
          />
        </>
      )}
      {frames.map(([title, passed]) => passed !== undefined && <FrameText key={title} title={title} passed={passed} />)}
    </div>
  );
}

/** What the service says: what became of the message, and whether the client may do it. */
function Why({
  backend,
  shown,
  act,
  channel,
  message,
  about,
}: {
  readonly backend: Backend;
  readonly shown: Shown | undefined;
  readonly act: string;
  readonly channel: string;
  /** The id of the message that did not arrive. */
  readonly message?: string;
  /** The cursor of the message that the act was about. */
  readonly about?: string | undefined;
}) {
  const [trace, setTrace] = useState<Trace>();
  const [explanation, setExplanation] = useState<Explanation>();
  const [trouble, setTrouble] = useState<string>();
  const { session, user, isOpen, wish } = shown ?? {};
  useEffect(() => {
    let isGone = false;
    const tell = (act: () => void): void => {
      if (!isGone) act();
    };
    const fail = (error: Error): void => tell(() => setTrouble(error.message));
    if (message !== undefined && user !== undefined)
      backend.trace(message, { user }).then((found) => tell(() => setTrace(found)), fail);
    const who =
      isOpen && session !== undefined
        ? { session }
        : { user: user ?? '', roles: wish?.user?.roles ?? [], claims: wish?.user?.claims ?? {} };
    const asked = { ...who, ...(about === undefined ? {} : { cursor: about }) };
    if (user !== undefined)
      backend.explain(act, channel, asked).then((found) => tell(() => setExplanation(found)), fail);
    return () => {
      isGone = true;
    };
  }, [backend, message, user, session, isOpen, wish, act, channel, about]);
  return (
    <section className="why-answer" aria-live="polite">
      {trouble !== undefined && <Alert type="error" title={trouble} />}
      {trace?.user !== undefined && (
        <>
          <p>{trace.user.sentence}</p>
          {trace.user.fates.length > 1 && (
            <ul>
              {trace.user.fates.map((fate) => (
                <li key={fate.session}>{fate.sentence}</li>
              ))}
            </ul>
          )}
        </>
      )}
      {explanation !== undefined && <Answer {...explanation} />}
    </section>
  );
}

function FrameText({ title, passed }: { readonly title: string; readonly passed: Passed }) {
  const [how, setHow] = useState<'pretty' | 'sent'>('pretty');
  const { text, atMs } = passed;
  return (
    <section className="frame-text">
      <div className="frame-text-head">
        <b>{title}</b>
        <span className="faint">
          at {Math.round(atMs)} ms, {new TextEncoder().encode(text).length} bytes
        </span>
        <Segmented
          size="small"
          options={[
            { value: 'pretty', label: 'Pretty' },
            { value: 'sent', label: 'As sent' },
          ]}
          value={how}
          onChange={setHow}
        />
        <Button size="small" onClick={() => void navigator.clipboard.writeText(text)}>
          Copy
        </Button>
      </div>
      <pre className="code">{how === 'pretty' ? pretty(text) : text}</pre>
    </section>
  );
}

function pretty(text: string): string {
  try {
    return JSON.stringify(JSON.parse(text), null, 2);
  } catch {
    return text;
  }
}
