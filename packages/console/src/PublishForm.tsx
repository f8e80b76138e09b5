import { type Backend, BackendError } from '@nine-bells/client/backend';
import { Button, Form, Input, Segmented } from 'antd';
import { useState } from 'react';

interface Fields {
  readonly as: 'text' | 'json';
  readonly body: string;
  readonly type?: string;
  readonly user?: string;
}

type Outcome = { readonly ok: boolean; readonly text: string } | undefined;

/** Publishes a test message, as an application would. */
export function PublishForm({ backend, channel }: { readonly backend: Backend; readonly channel: string }) {
  const [form] = Form.useForm<Fields>();
  const [outcome, setOutcome] = useState<Outcome>();
  const [busy, setBusy] = useState(false);
  const as = Form.useWatch('as', form) ?? 'text';

  const publish = async ({ body, type, user }: Fields): Promise<void> => {
    setBusy(true);
    setOutcome(undefined);
    try {
      const { cursor } = await backend.publish({
        channel,
        data: as === 'json' ? JSON.parse(body) : { text: body },
        ...(type ? { type } : {}),
        ...(user ? { by: { user } } : {}),
      });
      setOutcome({ ok: true, text: `Published as ${cursor}` });
      form.setFieldValue('body', '');
    } catch (error) {
      setOutcome({ ok: false, text: reasonOf(error) });
    }
    setBusy(false);
  };

  return (
    <Form form={form} className="publish" layout="vertical" initialValues={{ as: 'text' }} onFinish={publish}>
      <div className="publish-head">
        <Form.Item name="as" noStyle>
          <Segmented
            size="small"
            options={[
              { value: 'text', label: 'Text' },
              { value: 'json', label: 'JSON' },
            ]}
          />
        </Form.Item>
        <span role="status" className={outcome?.ok ? 'done' : 'alarm'}>
          {outcome?.text}
        </span>
      </div>
      <Form.Item
        name="body"
        rules={[
          { required: true, message: 'There is nothing to publish' },
          {
            validator: async (_, value?: string) => {
              if (as === 'json' && value) JSON.parse(value);
            },
            message: 'This is not JSON',
            validateTrigger: 'onSubmit',
          },
        ]}
      >
        <Input.TextArea
          autoSize={{ minRows: 2, maxRows: 8 }}
          placeholder={as === 'json' ? '{"text": "…"}' : 'A test message'}
          aria-label="Message"
          className={as === 'json' ? 'code' : ''}
        />
      </Form.Item>
      <div className="publish-row">
        <Form.Item name="type">
          <Input placeholder="Type: message" aria-label="Type" />
        </Form.Item>
        <Form.Item name="user">
          <Input placeholder="By user: none" aria-label="By user" />
        </Form.Item>
        <Button type="primary" htmlType="submit" loading={busy}>
          Publish
        </Button>
      </div>
    </Form>
  );
}

export function reasonOf(error: unknown): string {
  if (error instanceof BackendError && error.problem !== undefined) return `${error.message} (${error.problem.code})`;
  return (error as Error).message;
}
