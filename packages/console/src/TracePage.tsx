import type { Backend, Trace } from '@nine-bells/client/backend';
import { Alert, Button, Input, Spin } from 'antd';
import { useEffect, useState } from 'react';
import { useNavigate, useParams, useSearchParams } from 'react-router-dom';
import { texts } from './texts.js';
import { useTitle } from './useTitle.js';

/** What became of one message: its way over the instances, and for a user, whether and how it arrived. */
export function TracePage({ backend }: { readonly backend: Backend }) {
  const { id = '' } = useParams();
  const [search] = useSearchParams();
  const user = search.get('user') ?? '';
  useTitle(texts.trace);
  const navigate = useNavigate();
  const [wanted, setWanted] = useState({ id, user });
  const [trace, setTrace] = useState<Trace | undefined>();
  const [trouble, setTrouble] = useState<string | undefined>();

  useEffect(() => {
    setWanted({ id, user });
    setTrace(undefined);
    setTrouble(undefined);
    if (id === '') return;
    let isOver = false;
    backend.trace(id, user === '' ? {} : { user }).then(
      (found) => !isOver && setTrace(found),
      (error: Error) => !isOver && setTrouble(error.message),
    );
    return () => {
      isOver = true;
    };
  }, [backend, id, user]);

  const ask = (): void => {
    const about = wanted.user.trim() === '' ? '' : `?user=${encodeURIComponent(wanted.user.trim())}`;
    navigate(`/traces/${encodeURIComponent(wanted.id.trim())}${about}`);
  };
  return (
    <main className="page">
      <h1>Trace</h1>
      <form
        className="ask"
        onSubmit={(event) => {
          event.preventDefault();
          ask();
        }}
      >
        <Input
          aria-label="Message"
          placeholder="Id of a message"
          value={wanted.id}
          onChange={({ target }) => setWanted({ ...wanted, id: target.value })}
        />
        <Input
          aria-label="User"
          placeholder="User, to ask whether it arrived"
          value={wanted.user}
          onChange={({ target }) => setWanted({ ...wanted, user: target.value })}
        />
        <Button type="primary" htmlType="submit" disabled={wanted.id.trim() === ''}>
          What became of it?
        </Button>
      </form>
      {id === '' && (
        <p className="faint">
          Every message carries an id. Each channel’s page links from a message to here; instances remember the last
          20,000 they have seen.
        </p>
      )}
      {id !== '' && trace === undefined && trouble === undefined && <Spin />}
      {trouble !== undefined && <Alert type="info" title={trouble} />}
      {trace !== undefined && <Account trace={trace} />}
    </main>
  );
}

function Account({ trace }: { readonly trace: Trace }) {
  const { channel, cursor, sentence, user, missing = [] } = trace;
  return (
    <article className="trace">
      <h2>
        {channel} <code>{cursor}</code>
      </h2>
      <p>{sentence}</p>
      <Way trace={trace} />
      {user !== undefined && (
        <section>
          <h2>For {user.user}</h2>
          {user.fates.length === 0 && <p>{user.sentence}</p>}
          <ul className="fates">
            {user.fates.map((each) => (
              <li key={each.session} className={arrived.has(each.outcome) ? 'arrived' : 'not-arrived'}>
                {each.sentence}
                <span className="faint">
                  {' '}
                  session <code>{each.session}</code> at {each.instance}
                  {each.workbench && ', in the workbench'}
                </span>
              </li>
            ))}
          </ul>
          {user.earlier > 0 && <p className="faint">Sessions that had ended before it, beside: {user.earlier}</p>}
        </section>
      )}
      {missing.length > 0 && <Alert type="warning" title={`Did not answer in time: ${missing.join(', ')}`} />}
    </article>
  );
}

/** Outcomes with which the message has arrived, at once or later. */
const arrived = new Set(['got', 'handed', 'recovered']);

interface Station {
  readonly who: string;
  readonly what: string;
  /** Milliseconds since the message was taken in, or first seen. */
  readonly afterMs: number;
}

/** The way of the message: a line for each station, placed by when it was reached. */
function Way({ trace }: { readonly trace: Trace }) {
  const stations = stationsOf(trace);
  // Clocks of machines differ a little: what seems to be before the beginning is drawn at it.
  const lastMs = Math.max(1, ...stations.map(({ afterMs }) => afterMs));
  return (
    <ol className="way">
      {stations.map(({ who, what, afterMs }) => (
        <li key={`${who} ${what}`}>
          <span className="who">{who}</span>
          <span className="what">{what}</span>
          <span className="track">
            <span className="mark" style={{ left: `${(Math.max(0, afterMs) / lastMs) * 100}%` }} />
          </span>
          <span className="after">{afterMs === 0 ? '0 ms' : `${afterMs > 0 ? '+' : ''}${afterMs} ms`}</span>
        </li>
      ))}
    </ol>
  );
}

function stationsOf({ accepted, instances, user }: Trace): readonly Station[] {
  const beginMs = Date.parse(accepted?.at ?? instances[0]?.at ?? '');
  const after = (at: string): number => Date.parse(at) - beginMs;
  const stations: Station[] = [];
  if (accepted !== undefined) {
    stations.push({ who: accepted.instance, what: 'took it in', afterMs: 0 });
    stations.push({ who: accepted.instance, what: 'had its place', afterMs: Math.round(accepted.placedAfterMs) });
  }
  for (const { instance, at, connections } of instances)
    stations.push({
      who: instance,
      what: `handed it to ${connections} connection${connections === 1 ? '' : 's'}`,
      afterMs: after(at),
    });
  for (const { session, recoveredAt } of user?.fates ?? [])
    if (recoveredAt !== undefined)
      stations.push({ who: user?.user ?? session, what: 'recovered it', afterMs: after(recoveredAt) });
  return stations;
}
