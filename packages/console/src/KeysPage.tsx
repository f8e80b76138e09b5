import { type ApiKeyInfo, type Backend, BackendError } from '@nine-bells/client/backend';
import { Alert, Button, Form, Input, Popconfirm, Select, Typography } from 'antd';
import { useState } from 'react';
import { queries, useAnswer, useChange } from './queries.js';
import { ScrollTable } from './ScrollTable.js';
import { Trouble } from './Trouble.js';
import { dayTime, texts } from './texts.js';
import { useTitle } from './useTitle.js';

interface Fields {
  readonly name: string;
  readonly rights: string[];
  readonly forMs: number;
}

const day = 86_400_000;

/** The API keys: what each may do and when it was last used; making and revoking them. */
export function KeysPage({ backend }: { readonly backend: Backend }) {
  useTitle(texts.keys);
  const keys = useAnswer(['keys'], () => backend.keys(), 2000);
  return (
    <main className="page keys-page">
      <KeyForm backend={backend} />
      <section>
        <h2>API keys</h2>
        <Trouble of={[keys]} />
        <Keys backend={backend} keys={keys.data?.keys} />
      </section>
    </main>
  );
}

function KeyForm({ backend }: { readonly backend: Backend }) {
  const [form] = Form.useForm<Fields>();
  const [made, setMade] = useState<ApiKeyInfo & { readonly key: string }>();
  const [trouble, setTrouble] = useState<string>();
  const make = async ({ name, rights, forMs }: Fields): Promise<void> => {
    setTrouble(undefined);
    try {
      setMade(await backend.makeKey({ name, rights, ...(forMs > 0 ? { forMs } : {}) }));
      form.resetFields();
      void queries.invalidateQueries({ queryKey: ['keys'] });
    } catch (error) {
      setTrouble(error instanceof BackendError ? error.message : String(error));
    }
  };
  return (
    <Form<Fields>
      form={form}
      layout="vertical"
      className="action-form"
      initialValues={{ forMs: 0, rights: [] }}
      onFinish={make}
    >
      <h1>Make an API key</h1>
      <div className="action-row">
        <Form.Item name="name" label="Name" rules={[{ required: true, message: 'A name is needed' }]}>
          <Input placeholder="results bureau" maxLength={100} />
        </Form.Item>
        <Form.Item name="rights" label="Rights" rules={[{ required: true, message: 'A right is needed' }]}>
          <Select
            mode="tags"
            placeholder="publish:race/:race/signals"
            options={[
              { value: 'read', label: 'read: look at everything' },
              { value: 'publish', label: 'publish: to every channel' },
              { value: 'notify', label: 'notify: put notices into inboxes' },
              { value: 'moderate', label: 'moderate: remove, ban, sign out' },
              { value: 'administer', label: 'administer: everything, keys too' },
            ]}
          />
        </Form.Item>
        <Form.Item name="forMs" label="Good">
          <Select
            options={[
              { value: 0, label: 'until it is revoked' },
              { value: day, label: 'for 1 day' },
              { value: 30 * day, label: 'for 30 days' },
              { value: 365 * day, label: 'for 1 year' },
            ]}
          />
        </Form.Item>
        <Button type="primary" htmlType="submit">
          Make
        </Button>
      </div>
      {trouble !== undefined && <Alert type="error" showIcon title={trouble} />}
      {made !== undefined && (
        <Alert
          type="success"
          showIcon
          closable={{ onClose: () => setMade(undefined) }}
          title={`The key ${made.name} was made. Copy it now: it cannot be shown again.`}
          description={
            <Typography.Text code copyable className="made-key">
              {made.key}
            </Typography.Text>
          }
        />
      )}
    </Form>
  );
}

function Keys({ backend, keys }: { readonly backend: Backend; readonly keys: readonly ApiKeyInfo[] | undefined }) {
  const revoke = useChange(
    ({ id }: ApiKeyInfo) => backend.revokeKey(id),
    (_, { name }) => `The key ${name} is revoked`,
  );
  return (
    <ScrollTable<ApiKeyInfo>
      label="API keys"
      rowKey="id"
      loading={keys === undefined}
      dataSource={[...(keys ?? [])]}
      pagination={{ pageSize: 20, hideOnSinglePage: true }}
      rowClassName={(key) => (isOver(key) ? 'over' : '')}
      columns={[
        { title: 'Name', dataIndex: 'name' },
        { title: 'Id', dataIndex: 'id', render: (id: string) => <code>{id}</code> },
        { title: 'May', dataIndex: 'rights', render: (rights: readonly string[]) => rights.join(', ') },
        { title: 'Made', dataIndex: 'createdAt', render: (at: string) => dayTime(at) },
        {
          title: 'Last used',
          dataIndex: 'lastUsedAt',
          render: (at?: string) => (at === undefined ? 'never' : dayTime(at)),
        },
        { title: 'Ends', render: (_, key) => endText(key) },
        {
          title: 'Action',
          align: 'right',
          render: (_, key) =>
            !isOver(key) && (
              <Popconfirm
                title={`Revoke ${key.name}?`}
                description="Applications that use it are refused at once."
                onConfirm={() => revoke.act(key)}
                okText="Revoke"
              >
                <Button size="small">Revoke</Button>
              </Popconfirm>
            ),
        },
      ]}
    />
  );
}

function isOver({ revokedAt, expiresAt }: ApiKeyInfo): boolean {
  return revokedAt !== undefined || (expiresAt !== undefined && new Date(expiresAt).getTime() <= Date.now());
}

function endText({ revokedAt, expiresAt }: ApiKeyInfo): string {
  if (revokedAt !== undefined) return `revoked ${dayTime(revokedAt)}`;
  return expiresAt === undefined ? 'when revoked' : dayTime(expiresAt);
}
