import type { Backend, InstanceInfo } from '@nine-bells/client/backend';
import { Alert, Table, Tag } from 'antd';
import { ago, rateText } from './texts.js';
import { usePolled } from './usePolled.js';

/** The processes that are the service together: where each is, how busy, and whether the others still hear of it. */
export function InstancesPage({ backend }: { readonly backend: Backend }) {
  const found = usePolled(() => backend.instances(), 1000);
  const all = found?.instances;
  return (
    <main className="page">
      <h1>Instances</h1>
      {all?.length === 1 && (
        <p className="faint">This one does everything. With workers, or a relay, several share the work.</p>
      )}
      {(all ?? []).flatMap(({ instance, warnings }) =>
        (warnings ?? []).map((warning) => (
          <Alert
            key={`${instance} ${warning}`}
            type="warning"
            showIcon
            title={`${instance}: ${warning}`}
            style={{ marginBottom: 12 }}
          />
        )),
      )}
      <Table<InstanceInfo>
        size="small"
        rowKey="holder"
        loading={all === undefined}
        dataSource={[...(all ?? [])]}
        pagination={{ pageSize: 50, hideOnSinglePage: true }}
        scroll={{ x: 'max-content' }}
        columns={[
          {
            title: 'Instance',
            render: (_, { instance, holder, isThis, draining }) => (
              <span title={holder}>
                {instance} {isThis && <span className="faint">asked</span>} {draining && <Tag>draining</Tag>}
              </span>
            ),
          },
          { title: 'At', dataIndex: 'address', render: (at?: string) => <code>{at}</code> },
          { title: 'Version', dataIndex: 'version' },
          { title: 'Since', dataIndex: 'since', render: (at: string) => ago(at) },
          { title: 'Connections', dataIndex: 'connections', align: 'right' },
          { title: 'Channels', dataIndex: 'channels', align: 'right' },
          { title: 'In per second', dataIndex: 'messagesPerS', align: 'right', render: rateText },
          { title: 'Out per second', dataIndex: 'deliveriesPerS', align: 'right', render: rateText },
          { title: 'Loop late by', dataIndex: 'loopDelayMs', align: 'right', render: ms },
          { title: 'Relay', dataIndex: 'relayMs', align: 'right', render: ms },
          { title: 'Clock off by', dataIndex: 'clockMs', align: 'right', render: (off?: number) => ms(off && -off) },
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

function ms(value: number | undefined): string {
  return !value ? '' : `${value} ms`;
}
