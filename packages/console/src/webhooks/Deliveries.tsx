import type { Backend, DeliveryAttempt, DeliveryInfo, DeliveryState } from '@nine-bells/client/backend';
import { Button, Checkbox, Drawer, Empty, Select } from 'antd';
import { useState } from 'react';
import { Pager } from '../Pager.js';
import { useAnswer, useChange } from '../queries.js';
import { ScrollTable } from '../ScrollTable.js';
import { Trouble } from '../Trouble.js';
import { dayTime, timeOfDay } from '../texts.js';
import { usePages } from '../usePages.js';
import { State } from './State.js';

type Wanted = DeliveryState | 'failed';

const states: readonly DeliveryState[] = ['waiting', 'delivered', 'dead'];

/** Lists deliveries to hooks and feeds, with their attempts. */
export function Deliveries({ backend, mayAct }: { readonly backend: Backend; readonly mayAct: boolean }) {
  const [hook, setHook] = useState<string>();
  const [wanted, setWanted] = useState<Wanted>();
  const [shown, setShown] = useState<string>();
  const [chosen, setChosen] = useState<readonly string[]>([]);
  const hooks = useAnswer(['hooks'], () => backend.hooks(), 5_000);
  const feeds = useAnswer(['feeds'], () => backend.feeds(), 5_000);
  const pages = usePages<DeliveryInfo>(
    ['deliveries', hook ?? '', wanted ?? ''],
    async (query) => {
      const { deliveries: items, next } = await backend.deliveries({
        ...query,
        ...(hook && { hook }),
        ...(wanted === 'failed' ? { failed: true } : wanted && { state: wanted }),
      });
      return { items, next };
    },
    2_000,
  );
  const resend = useChange(
    (ids: readonly string[]) => backend.resend({ ids }),
    ({ resent }) => `${resent} sent again`,
  );
  const names = [...(hooks.data?.hooks ?? []), ...(feeds.data?.feeds ?? [])].map(({ name }) => name);
  return (
    <section>
      <Trouble of={[hooks, feeds, pages.answer]} />
      <div className="filters">
        <Select
          aria-label="Hook or feed"
          allowClear
          placeholder="All hooks and feeds"
          value={hook ?? null}
          onChange={(name) => setHook(name ?? undefined)}
          options={names.map((name) => ({ value: name, label: name }))}
        />
        <Select<Wanted | null>
          aria-label="State"
          allowClear
          placeholder="All states"
          value={wanted ?? null}
          onChange={(next) => setWanted(next ?? undefined)}
          options={[
            { value: 'failed', label: 'failed at least once' },
            ...states.map((each) => ({ value: each, label: each })),
          ]}
        />
        {mayAct && (
          <Button
            disabled={chosen.length === 0}
            loading={resend.isPending}
            onClick={() => void resend.act(chosen).then(() => setChosen([]))}
          >
            Send {chosen.length === 0 ? '' : `${chosen.length} `}again
          </Button>
        )}
      </div>
      <ScrollTable<DeliveryInfo>
        label="What goes out"
        rowKey="id"
        loading={pages.items === undefined}
        dataSource={[...(pages.items ?? [])]}
        pagination={false}
        locale={{ emptyText: <Empty description="Nothing was sent, and nothing waits" /> }}
        columns={[
          ...(mayAct ? [chooseColumn(chosen, setChosen)] : []),
          { title: 'At', dataIndex: 'at', render: dayTime },
          { title: 'To', dataIndex: 'hook' },
          { title: 'Event', dataIndex: 'event' },
          { title: 'Channel', dataIndex: 'channel' },
          {
            title: 'State',
            dataIndex: 'state',
            render: (each: DeliveryState) => <State of={each} />,
          },
          { title: 'Tries', dataIndex: 'attempts', align: 'right' },
          { title: 'Says', render: (_, each) => saysText(each) },
          {
            title: 'Delivery',
            render: (_, { id }) => (
              <Button type="link" size="small" onClick={() => setShown(id)}>
                {id}
              </Button>
            ),
          },
        ]}
      />
      <Pager of={pages} label="Pages of what goes out" />
      <Drawer open={shown !== undefined} onClose={() => setShown(undefined)} size={680} title={shown}>
        {shown !== undefined && <Delivery backend={backend} id={shown} />}
      </Drawer>
    </section>
  );
}

/** A checkbox in each row. (Those of the table itself have a hidden double, which a keyboard finds.) */
function chooseColumn(chosen: readonly string[], choose: (ids: readonly string[]) => void) {
  return {
    title: 'Again',
    render: (_: unknown, { id }: DeliveryInfo) => (
      <Checkbox
        aria-label={`Send ${id} again`}
        checked={chosen.includes(id)}
        onChange={({ target }) => choose(target.checked ? [...chosen, id] : chosen.filter((each) => each !== id))}
      />
    ),
  };
}

function saysText({ problem, status, next }: DeliveryInfo): string {
  const later = next === undefined ? '' : `; again at ${timeOfDay(next)}`;
  return problem === undefined ? String(status ?? '') : `${problem}${later}`;
}

function Delivery({ backend, id }: { readonly backend: Backend; readonly id: string }) {
  const found = useAnswer(['delivery', id], () => backend.delivery(id), 2_000);
  const { data } = found;
  if (data === undefined) return <Trouble of={[found]} />;
  return (
    <div className="event">
      <p>
        <State of={data.state} /> {data.next !== undefined && `tried again ${dayTime(data.next)}`}
      </p>
      <h3>What is sent</h3>
      <pre>{JSON.stringify(data.data, null, 2)}</pre>
      <h3>Attempts</h3>
      {data.tried.length === 0 && <p className="faint">None yet.</p>}
      {data.tried.map((each) => (
        <Attempt key={each.at} {...each} />
      ))}
    </div>
  );
}

function Attempt({ at, tookMs, status, problem, sent, answer }: DeliveryAttempt) {
  return (
    <section className="attempt">
      <p>
        {dayTime(at)} <span className={problem === undefined ? 'state good' : 'state bad'}>{problem ?? status}</span>{' '}
        <span className="faint">{tookMs} ms</span>
      </p>
      {answer ? <pre>{answer}</pre> : null}
      <details>
        <summary>Headers</summary>
        <pre>
          {Object.entries(sent ?? {})
            .map(([name, value]) => `${name}: ${value}`)
            .join('\n')}
        </pre>
      </details>
    </section>
  );
}
