import type { ArrivalDetail, ArrivalInfo, ArrivalState, Backend, Became } from '@nine-bells/client/backend';
import { Alert, Button, Drawer, Empty, Input, Select } from 'antd';
import { useState } from 'react';
import { Link } from 'react-router-dom';
import { Pager } from '../Pager.js';
import { useAnswer, useChange } from '../queries.js';
import { ScrollTable } from '../ScrollTable.js';
import { Trouble } from '../Trouble.js';
import { dayTime } from '../texts.js';
import { usePages } from '../usePages.js';
import { State } from './State.js';

const states: readonly ArrivalState[] = ['waiting', 'done', 'ignored', 'failed'];

/** Lists arrivals at intakes, with their results. */
export function Arrivals({ backend, mayAct }: { readonly backend: Backend; readonly mayAct: boolean }) {
  const [intake, setIntake] = useState<string>();
  const [state, setState] = useState<ArrivalState>();
  const [shown, setShown] = useState<string>();
  const intakes = useAnswer(['intakes'], () => backend.intakes(), 5_000);
  const pages = usePages<ArrivalInfo>(
    ['arrivals', intake ?? '', state ?? ''],
    async (query) => {
      const wish = { ...query, ...(intake && { intake }), ...(state && { state }) };
      const { arrivals: items, next } = await backend.arrivals(wish);
      return { items, next };
    },
    2_000,
  );
  const names = intakes.data?.intakes.map(({ name }) => name) ?? [];
  return (
    <section>
      <Trouble of={[intakes, pages.answer]} />
      <div className="filters">
        <Select
          aria-label="Intake"
          allowClear
          placeholder="All intakes"
          value={intake ?? null}
          onChange={(name) => setIntake(name ?? undefined)}
          options={names.map((name) => ({ value: name, label: name }))}
        />
        <Select<ArrivalState | null>
          aria-label="State"
          allowClear
          placeholder="All states"
          value={state ?? null}
          onChange={(next) => setState(next ?? undefined)}
          options={states.map((each) => ({ value: each, label: each }))}
        />
      </div>
      <ScrollTable<ArrivalInfo>
        label="What came in"
        rowKey="id"
        loading={pages.items === undefined}
        dataSource={[...(pages.items ?? [])]}
        pagination={false}
        locale={{ emptyText: <Empty description="Nothing came in" /> }}
        columns={[
          { title: 'At', dataIndex: 'at', render: dayTime },
          { title: 'Intake', dataIndex: 'intake' },
          {
            title: 'State',
            dataIndex: 'state',
            render: (each: ArrivalState) => <State of={each} />,
          },
          { title: 'Became', render: (_, { became, problem }) => problem ?? <BecameText became={became} /> },
          {
            title: 'Event',
            render: (_, { id }) => (
              <Button type="link" size="small" onClick={() => setShown(id)}>
                {id}
              </Button>
            ),
          },
        ]}
      />
      <Pager of={pages} label="Pages of what came in" />
      <Drawer open={shown !== undefined} onClose={() => setShown(undefined)} size={760} title={shown}>
        {shown !== undefined && <Arrival backend={backend} id={shown} mayAct={mayAct} />}
      </Drawer>
    </section>
  );
}

function BecameText({ became }: { readonly became: Became | undefined }) {
  const { messages = [], notices = [], entries = [] } = became ?? {};
  return (
    <>
      {messages.map(({ channel, id, cursor }) => (
        <Link key={id} to={`/traces/${id}`} title="What became of the message">
          {channel} {cursor}{' '}
        </Link>
      ))}
      {notices.map(({ id, users }) => (
        <span key={id}>
          a notice to {users} {users === 1 ? 'user' : 'users'}{' '}
        </span>
      ))}
      {entries.map(({ channel, entry }) => (
        <span key={`${channel} ${entry}`}>
          {entry} on {channel}{' '}
        </span>
      ))}
      {became !== undefined && messages.length + notices.length + entries.length === 0 && 'nothing, by its route'}
    </>
  );
}

/** One event: as it came beside what it becomes, and routes to try. */
function Arrival({
  backend,
  id,
  mayAct,
}: {
  readonly backend: Backend;
  readonly id: string;
  readonly mayAct: boolean;
}) {
  const found = useAnswer(['arrival', id], () => backend.arrival(id), 5_000);
  const { data } = found;
  if (data === undefined) return <Trouble of={[found]} />;
  return (
    <div className="event">
      <p>
        <State of={data.state} /> {data.problem ?? <BecameText became={data.became} />}
      </p>
      <Trial backend={backend} arrival={data} mayAct={mayAct} />
    </div>
  );
}

interface TrialProps {
  readonly backend: Backend;
  readonly arrival: ArrivalDetail;
  readonly mayAct: boolean;
}

/** Shows the result of an event by its intake's routes, or by others. */
function Trial({ backend, arrival, mayAct }: TrialProps) {
  const { id, intake, body, isBase64, bytes, eventId, state } = arrival;
  const [routes, setRoutes] = useState('');
  const [tried, setTried] = useState('');
  const trial = useAnswer(
    ['trial', id, tried],
    () => backend.tryIntake(intake, { arrival: id, ...(tried === '' ? {} : { routes: tried }) }),
    60_000,
  );
  const again = useChange(
    () => backend.runAgain(id),
    (ran) => ran.problem ?? `It is ${ran.state}`,
  );
  const { problem, becomes, matched } = trial.data ?? {};
  return (
    <>
      <div className="beside">
        <section>
          <h3>As it is kept</h3>
          <pre>{isBase64 ? String(body) : JSON.stringify(body, null, 2)}</pre>
          <p className="faint">
            {bytes} bytes received{isBase64 && ', shown in base64'}.{' '}
            {eventId !== undefined && `The sender calls it ${eventId}.`}
          </p>
        </section>
        <section>
          <h3>{tried === '' ? 'What it becomes' : 'What it would become'}</h3>
          {problem !== undefined && <Alert type="error" title={problem} />}
          {matched === false && <Alert type="warning" title="No route is for it" />}
          {matched && problem === undefined && <pre>{JSON.stringify(shortened(becomes), null, 2)}</pre>}
          <Trouble of={[trial]} />
        </section>
      </div>
      <h3>Try other routes</h3>
      <Input.TextArea
        aria-label="Routes"
        className="code"
        autoSize={{ minRows: 4, maxRows: 14 }}
        placeholder={
          '- when: { at: /kind, is: wind }\n  message: { channel: "weather/:station", data: { knots: /speed } }'
        }
        value={routes}
        onChange={({ target }) => setRoutes(target.value)}
      />
      <div className="filters">
        <Button onClick={() => setTried(routes)} disabled={routes.trim() === ''}>
          Try
        </Button>
        {mayAct && state !== 'done' && state !== 'waiting' && (
          <Button type="primary" loading={again.isPending} onClick={() => void again.act(undefined)}>
            Run again
          </Button>
        )}
        <span className="faint">Trying publishes nothing. Put routes that fit into the configuration.</span>
      </div>
    </>
  );
}

/** Without the lists that are empty. */
function shortened(becomes: object | undefined): object {
  return Object.fromEntries(Object.entries(becomes ?? {}).filter(([, list]) => (list as unknown[]).length > 0));
}
