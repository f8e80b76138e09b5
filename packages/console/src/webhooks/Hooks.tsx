import type { Backend, FeedInfo, HookInfo } from '@nine-bells/client/backend';
import { Alert, Button } from 'antd';
import { useAnswer, useChange } from '../queries.js';
import { ScrollTable } from '../ScrollTable.js';
import { Trouble } from '../Trouble.js';
import { ago, dayTime } from '../texts.js';
import { State } from './State.js';

/** Where events go, how far behind each is, and which are paused. */
export function Hooks({ backend, mayAct }: { readonly backend: Backend; readonly mayAct: boolean }) {
  const hooks = useAnswer(['hooks'], () => backend.hooks(), 2_000);
  const feeds = useAnswer(['feeds'], () => backend.feeds(), 2_000);
  const change = useChange(
    ({ name, state }: HookInfo) => (state === 'paused' ? backend.resumeHook(name) : backend.pauseHook(name)),
    ({ name, state }) => `${name} is ${state}`,
  );
  const all = hooks.data?.hooks ?? [];
  return (
    <section>
      <Trouble of={[hooks, feeds]} />
      {all.map(
        ({ name, paused }) =>
          paused && (
            <Alert key={name} type="warning" title={`${name} is paused since ${dayTime(paused.at)}: ${paused.why}`} />
          ),
      )}
      <h2>Hooks</h2>
      <ScrollTable<HookInfo>
        label="Hooks"
        rowKey="name"
        loading={hooks.data === undefined}
        dataSource={[...all]}
        pagination={false}
        columns={[
          ...shared<HookInfo>(),
          { title: 'Delivered', dataIndex: 'delivered', align: 'right' },
          { title: 'Failed', dataIndex: 'failed', align: 'right' },
          { title: 'Given up', dataIndex: 'deadKept', align: 'right' },
          { title: 'To', dataIndex: 'url', render: (url: string) => <code>{url}</code> },
          ...(mayAct
            ? [
                {
                  title: 'Change',
                  render: (_: unknown, hook: HookInfo) => (
                    <Button size="small" onClick={() => void change.act(hook)}>
                      {hook.state === 'paused' ? 'Resume' : 'Pause'}
                    </Button>
                  ),
                },
              ]
            : []),
        ]}
      />
      <h2>Feeds</h2>
      <ScrollTable<FeedInfo>
        label="Feeds"
        rowKey="name"
        loading={feeds.data === undefined}
        dataSource={[...(feeds.data?.feeds ?? [])]}
        pagination={false}
        columns={shared<FeedInfo>()}
      />
    </section>
  );
}

/** The columns that hooks and feeds have in common. */
function shared<Row extends HookInfo | FeedInfo>() {
  return [
    { title: 'Name', dataIndex: 'name' },
    { title: 'State', render: (_: unknown, { state }: Row) => <State of={state} /> },
    { title: 'Waiting', dataIndex: 'waiting', align: 'right' as const },
    { title: 'Oldest', render: (_: unknown, { oldest }: Row) => ago(oldest) },
    { title: 'Events', render: (_: unknown, { events }: Row) => events.join(', ') },
    { title: 'Channels', render: (_: unknown, { channels }: Row) => channels?.join(', ') ?? 'all' },
  ];
}
