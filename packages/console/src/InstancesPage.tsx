import type { Backend, InstanceInfo } from '@nine-bells/client/backend';
import { Alert, Tag } from 'antd';
import { useAnswer } from './queries.js';
import { ScrollTable } from './ScrollTable.js';
import { Trouble } from './Trouble.js';
import { ago, rateText, texts } from './texts.js';
import { useTitle } from './useTitle.js';

/** The processes that are the service together: where each is, how busy, and whether the others still hear of it. */
export function InstancesPage({ backend }: { readonly backend: Backend }) {
  useTitle(texts.instances);
  const found = useAnswer(['instances'], () => backend.instances(), 1000);
  const all = found.data?.instances;
  return (
    <main className="page">
      <h1>Instances</h1>
      <Trouble of={[found]} />
      {all?.length === 1 && (
        <p className="faint">This one does everything. With workers, or a relay, several share the work.</p>
      )}
      {warningsOf(all ?? []).map((warning) => (
        <Alert key={warning} type="warning" showIcon title={warning} />
      ))}
      <ScrollTable<InstanceInfo>
        label="Instances"
        rowKey="instanceId"
        loading={all === undefined}
        dataSource={[...(all ?? [])]}
        pagination={{ pageSize: 50, hideOnSinglePage: true }}
        columns={[
          {
            title: 'Instance',
            render: (_, { instance, instanceId, isThis, draining }) => (
              <span title={instanceId}>
                {instance} {isThis && <span className="faint">asked</span>} {draining && <Tag>draining</Tag>}
              </span>
            ),
          },
          { title: 'At', dataIndex: 'address', render: (at?: string) => <code>{at}</code> },
          { title: 'Version', dataIndex: 'version' },
          { title: 'Since', dataIndex: 'since', render: (at: string) => ago(at) },
          { title: 'Connections', dataIndex: 'connections', align: 'right' },
          { title: 'Channels', dataIndex: 'channels', align: 'right' },
          { title: 'In/s', dataIndex: 'messagesPerS', align: 'right', render: rateText },
          { title: 'Out/s', dataIndex: 'deliveriesPerS', align: 'right', render: rateText },
          { title: 'Loop delay', dataIndex: 'loopDelayMs', align: 'right', render: ms },
          { title: 'Relay', dataIndex: 'relayMs', align: 'right', render: ms },
          { title: 'Writer', dataIndex: 'writer' },
          ...(all?.some(isOff) ? [clockColumn] : []),
          {
            title: 'Lease left',
            dataIndex: 'leaseMs',
            align: 'right',
            render: ms,
          },
        ]}
      />
    </main>
  );
}

/** Each warning once, with the names of the instances that give it. */
function warningsOf(all: readonly InstanceInfo[]): string[] {
  const named = new Map<string, string[]>();
  for (const { instance, warnings } of all)
    for (const warning of warnings ?? []) named.set(warning, [...(named.get(warning) ?? []), instance]);
  return [...named].map(([warning, instances]) => `${instances.join(', ')}: ${warning}`);
}

/** Whether a machine's clock is off by as much as is warned of. */
function isOff({ clockMs = 0 }: InstanceInfo): boolean {
  return Math.abs(clockMs) >= 1_000;
}

const clockColumn = {
  title: 'Clock off by',
  dataIndex: 'clockMs',
  align: 'right',
  render: (offMs?: number) => (offMs === undefined ? '' : `${Math.round(-offMs / 1_000)} s`),
} as const;

function ms(value: number | undefined): string {
  return !value ? '' : `${value} ms`;
}
