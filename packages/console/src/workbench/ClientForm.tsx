import type { Backend } from '@nine-bells/client/backend';
import { Alert, Button, Form, Input, Modal, Segmented, Select } from 'antd';
import { useState } from 'react';
import type { Bench, Transport } from './bench.js';
import type { Members } from './recorder.js';

interface Fields {
  readonly as: 'user' | 'guest' | 'token';
  readonly name?: string;
  readonly user?: string;
  readonly displayName?: string;
  readonly roles?: string[];
  readonly claims?: string;
  readonly token?: string;
  readonly transport: Transport;
  readonly tokenFor: number;
}

const lifetimes = [
  { value: 3_600_000, label: 'an hour' },
  { value: 60_000, label: 'a minute' },
  { value: 10_000, label: '10 seconds' },
];
const acts = ['enter', 'publish', 'read', 'hail', 'moderate'];

/** Adds a client: a made-up user, worked out from an access rule if you like, a guest, or the holder of a token. */
export function ClientForm({
  backend,
  bench,
  isOpen,
  onClose,
}: {
  readonly backend: Backend;
  readonly bench: Bench;
  readonly isOpen: boolean;
  readonly onClose: () => void;
}) {
  const [form] = Form.useForm<Fields>();
  const as = Form.useWatch('as', form) ?? 'user';
  const [act, setAct] = useState('enter');
  const [channel, setChannel] = useState('');
  const [why, setWhy] = useState<string>();

  const reset = (): void => {
    form.resetFields();
    setAct('enter');
    setWhy(undefined);
  };

  const workOut = async (): Promise<void> => {
    setWhy(undefined);
    try {
      const found = await backend.exampleUser(act, channel.trim());
      if ('why' in found) return setWhy(`No user can be made up for this: ${found.why}.`);
      const claims = Object.keys(found.claims).length === 0 ? '' : JSON.stringify(found.claims);
      form.setFieldsValue({ as: 'user', roles: [...found.roles], claims });
      if (found.user !== undefined || !form.getFieldValue('user'))
        form.setFieldsValue({ user: found.user ?? bench.freeName('example') });
    } catch (error) {
      setWhy((error as Error).message);
    }
  };

  const add = async (fields: Fields): Promise<void> => {
    const { user, displayName, roles, claims, token, transport, tokenFor } = fields;
    const made = fields.as === 'user' && user !== undefined;
    const name = bench.freeName(nameFor(fields.name?.trim() || (made ? user : fields.as)));
    onClose();
    await bench.add({
      name,
      transport,
      tokenMs: tokenFor,
      ...(made
        ? {
            user: {
              id: user,
              ...(displayName ? { name: displayName } : {}),
              roles: roles ?? [],
              claims: claims?.trim() ? (JSON.parse(claims) as Members) : {},
            },
          }
        : {}),
      ...(fields.as === 'token' && token !== undefined ? { token: token.trim() } : {}),
    });
  };

  return (
    <Modal title="Add a client" open={isOpen} onCancel={onClose} footer={null} forceRender afterClose={reset}>
      <Form<Fields>
        form={form}
        layout="vertical"
        className="client-form"
        initialValues={{ as: 'user', transport: 'websocket', tokenFor: 3_600_000 }}
        onFinish={(fields) => void add(fields)}
      >
        <Form.Item name="as" label="Who">
          <Segmented
            options={[
              { value: 'user', label: 'A made-up user' },
              { value: 'guest', label: 'A guest' },
              { value: 'token', label: 'A token' },
            ]}
          />
        </Form.Item>
        {as === 'user' && (
          <>
            <Form.Item label="A user who may" extra="Fills in what the access rule asks for">
              <div className="row-of-buttons">
                <Select
                  aria-label="May do what"
                  value={act}
                  onChange={setAct}
                  options={acts.map((value) => ({ value, label: value }))}
                />
                <Input
                  aria-label="In which channel"
                  placeholder="crew/petrel"
                  value={channel}
                  onChange={({ target }) => setChannel(target.value)}
                />
                <Button onClick={() => void workOut()} disabled={channel.trim() === ''}>
                  Work out
                </Button>
              </div>
            </Form.Item>
            {why !== undefined && <Alert type="warning" title={why} />}
            <Form.Item name="user" label="User id" rules={[{ required: true, message: 'A user id is needed' }]}>
              <Input placeholder="tomas" />
            </Form.Item>
            <Form.Item name="displayName" label="Name">
              <Input placeholder="Tomas Verne" />
            </Form.Item>
            <Form.Item name="roles" label="Roles">
              <Select mode="tags" open={false} suffixIcon={null} placeholder="chair" />
            </Form.Item>
            <Form.Item
              name="claims"
              label="Other claims"
              rules={[{ validator: async (_, text?: string) => checkClaims(text), message: 'A JSON object is needed' }]}
            >
              <Input placeholder='{"cases": ["7"]}' className="code" />
            </Form.Item>
          </>
        )}
        {as === 'token' && (
          <Form.Item name="token" label="Token" rules={[{ required: true, message: 'Paste a token' }]}>
            <Input.TextArea autoSize={{ minRows: 2, maxRows: 5 }} placeholder="eyJ…" className="code" />
          </Form.Item>
        )}
        <Form.Item name="name" label="Called" extra="In its column and in the drill; by default as the user">
          <Input placeholder="party" />
        </Form.Item>
        <div className="row-of-buttons">
          <Form.Item name="transport" label="Transport">
            <Select options={['websocket', 'stream', 'poll'].map((value) => ({ value, label: value }))} />
          </Form.Item>
          {as === 'user' && (
            <Form.Item name="tokenFor" label="Its token lasts">
              <Select options={lifetimes} />
            </Form.Item>
          )}
        </div>
        <Button type="primary" htmlType="submit">
          Connect it
        </Button>
      </Form>
    </Modal>
  );
}

/** Names of clients are words of a drill. */
function nameFor(wanted: string): string {
  const name = wanted.replace(/[^A-Za-z0-9_-]+/g, '-').replace(/^[^A-Za-z]+/, '');
  return name === '' ? 'client' : name;
}

function checkClaims(text?: string): void {
  if (!text?.trim()) return;
  const value = JSON.parse(text) as unknown;
  if (typeof value !== 'object' || value === null || Array.isArray(value)) throw new TypeError('no object');
}
