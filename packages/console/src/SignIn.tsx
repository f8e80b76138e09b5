import { Alert, Button, Form, Input } from 'antd';
import { useState } from 'react';
import bell from './bell.svg';

export interface SignInProps {
  /** Why the last try did not work. */
  readonly why: string | undefined;
  readonly onSignIn: (key: string) => Promise<void>;
}

/** Asks for an API key, and says where one and a link are to be had. */
export function SignIn({ why, onSignIn }: SignInProps) {
  const [busy, setBusy] = useState(false);
  return (
    <main className="sign-in">
      <img src={bell} alt="" width={56} />
      <h1>Nine Bells</h1>
      <p>Sign in with an API key. The first one lies in the file api-key of the data folder.</p>
      {why !== undefined && <Alert type="error" showIcon title={`Not signed in: ${why}`} />}
      <Form
        layout="vertical"
        onFinish={async ({ key }: { key: string }) => {
          setBusy(true);
          await onSignIn(key);
          setBusy(false);
        }}
      >
        <Form.Item name="key" label="API key" rules={[{ required: true, message: 'An API key is needed' }]}>
          <Input.Password autoFocus autoComplete="off" placeholder="bells_…" />
        </Form.Item>
        <Button type="primary" htmlType="submit" block loading={busy}>
          Sign in
        </Button>
      </Form>
      <p className="faint">
        Or open a sign-in link: the service prints one when it starts, and <code>ninebells console</code> another.
      </p>
    </main>
  );
}
