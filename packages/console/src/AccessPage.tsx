import { type Asked, type Backend, BackendError, type Evaluation, type Explanation } from '@nine-bells/client/backend';
import { channelActs, messageActs, userActs } from '@nine-bells/wire';
import { Alert, Button, Form, Input, Segmented, Select } from 'antd';
import { useState } from 'react';
import { Link, useSearchParams } from 'react-router-dom';
import { useAnswer } from './queries.js';
import { dayTime, texts } from './texts.js';
import { useTitle } from './useTitle.js';

/** The names, for what was chosen or comes from outside. */
const userActNames: readonly string[] = userActs;
const messageActNames: readonly string[] = messageActs;

interface Fields {
  readonly as: 'user' | 'session' | 'token' | 'guest';
  readonly user?: string;
  readonly roles?: string[];
  readonly claims?: string;
  readonly session?: string;
  readonly token?: string;
  readonly act: string;
  /** A channel, or for acts that concern a user, that user. */
  readonly where: string;
  /** Of the message, for acts about one. */
  readonly cursor?: string;
}

/** Who may do what, and which rule says so: for a made-up user, a guest, the holder of a token, or a live session. */
export function AccessPage({ backend }: { readonly backend: Backend }) {
  const [form] = Form.useForm<Fields>();
  const [params] = useSearchParams();
  const [answer, setAnswer] = useState<Explanation>();
  const [trouble, setTrouble] = useState<string>();
  useTitle(texts.access);
  const { data: sessions } = useAnswer(['sessions'], () => backend.sessions({ limit: 1000 }), 5000);
  const session = params.get('session') ?? undefined;
  const act = Form.useWatch('act', form) ?? params.get('act') ?? 'enter';
  const concernsUser = userActNames.includes(act);
  const as = Form.useWatch('as', form) ?? (session === undefined ? 'user' : 'session');

  const ask = async (fields: Fields): Promise<void> => {
    setTrouble(undefined);
    try {
      setAnswer(await backend.explain(fields.act, fields.where, { ...askedOf(fields), ...aboutOf(fields) }));
    } catch (error) {
      setAnswer(undefined);
      setTrouble(error instanceof BackendError ? error.message : (error as Error).message);
    }
  };

  return (
    <main className="page access-page">
      <h1>Who may do what</h1>
      <Form<Fields>
        form={form}
        layout="vertical"
        className="question"
        initialValues={{
          as,
          act: params.get('act') ?? 'enter',
          where: params.get('channel') ?? '',
          session,
          user: params.get('user') ?? undefined,
          roles: [],
          claims: '',
        }}
        onFinish={ask}
      >
        <Form.Item name="as" label="Who">
          <Segmented
            options={[
              { value: 'user', label: 'Made up' },
              { value: 'session', label: 'A session' },
              { value: 'token', label: 'A token' },
              { value: 'guest', label: 'A guest' },
            ]}
          />
        </Form.Item>
        {as === 'user' && (
          <>
            <Form.Item name="user" label="User" rules={[{ required: true, message: 'A user id is needed' }]}>
              <Input placeholder="tomas" />
            </Form.Item>
            <Form.Item name="roles" label="Roles">
              <Select mode="tags" open={false} suffixIcon={null} placeholder="coach" />
            </Form.Item>
            <Form.Item
              name="claims"
              label="Other claims"
              rules={[
                { validator: async (_, text?: string) => void claimsOf(text), message: 'A JSON object is needed' },
              ]}
            >
              <Input placeholder='{"boats": ["petrel"]}' className="code" />
            </Form.Item>
          </>
        )}
        {as === 'session' && (
          <Form.Item name="session" label="Session" rules={[{ required: true, message: 'Choose a session' }]}>
            <Select
              showSearch
              placeholder="Who is connected"
              options={(sessions?.sessions ?? [])
                .filter(({ observer }) => !observer)
                .map((each) => ({ value: each.session, label: `${each.name ?? each.user} (${each.session})` }))}
            />
          </Form.Item>
        )}
        {as === 'token' && (
          <Form.Item name="token" label="Token" rules={[{ required: true, message: 'Paste a token' }]}>
            <Input.TextArea autoSize={{ minRows: 2, maxRows: 5 }} placeholder="eyJ…" className="code" />
          </Form.Item>
        )}
        <Form.Item name="act" label="May they">
          <Select
            options={[
              { label: 'In a channel', options: channelActs.map((value) => ({ value, label: value })) },
              { label: 'To a user', options: userActs.map((value) => ({ value, label: value })) },
            ]}
          />
        </Form.Item>
        <Form.Item
          name="where"
          label={concernsUser ? 'The user that it concerns' : 'Channel'}
          rules={[{ required: true, message: concernsUser ? 'A user is needed' : 'A channel is needed' }]}
        >
          <Input placeholder={concernsUser ? 'ines' : 'crew/petrel'} />
        </Form.Item>
        {messageActNames.includes(act) && (
          <Form.Item name="cursor" label="The message">
            <Input placeholder="Its cursor; none: one of their own" />
          </Form.Item>
        )}
        <Button type="primary" htmlType="submit">
          Explain
        </Button>
      </Form>
      <section className="answer" aria-live="polite">
        {trouble !== undefined && <Alert type="error" showIcon title={trouble} />}
        {answer === undefined && trouble === undefined && (
          <p className="faint">The answer names the rule that decides, and each fact that it looked at.</p>
        )}
        {answer !== undefined && <Answer {...answer} />}
      </section>
    </main>
  );
}

const withoutAnswer = { refuse: 'it is refused', pass: 'it is published', hold: 'a moderator decides' } as const;

export function Answer({
  act,
  channel,
  whom,
  user,
  allowed,
  problem,
  ban,
  silence,
  rule,
  others,
  evaluation,
  review,
}: Explanation) {
  return (
    <>
      <h2>
        {user} {user === '' ? 'Its holder' : ''} {allowed ? 'may' : 'may not'} {act}{' '}
        {channel !== undefined && inChannel.has(act) && 'in '}
        {channel ?? whom}
      </h2>
      {problem !== undefined && (
        <p>
          A client is told <code>{problem.code}</code>
          {problem.detail !== undefined && `: ${problem.detail}`}
        </p>
      )}
      {ban !== undefined && (
        <p className="alarm">
          A ban comes before the rules{ban.until !== undefined && `, until ${dayTime(ban.until)}`}
          {ban.reason !== undefined && `: ${ban.reason}`}
        </p>
      )}
      {silence !== undefined && (
        <p className="alarm">
          A silence comes before the rules{silence.until !== undefined && `, until ${dayTime(silence.until)}`}
          {silence.reason !== undefined && `: ${silence.reason}`}
        </p>
      )}
      {rule !== undefined && (
        <p>
          The rule is <code>{rule.pattern}</code>
          {Object.entries(rule.parameters).map(([name, value]) => (
            <span key={name}>
              , <code>{`:${name}`}</code> is <code>{value}</code>
            </span>
          ))}
        </p>
      )}
      {evaluation !== undefined && (
        <ul className="evaluation">
          <Part {...evaluation} />
        </ul>
      )}
      {review !== undefined && (
        <p>
          Then the application sees the message, within {review.withinMs / 1000} s; without an answer{' '}
          {withoutAnswer[review.otherwise]}.
          {review.waits && (
            <>
              {' '}
              Earlier messages of this user <Link to="/people">wait for a moderator</Link>: it waits behind them.
            </>
          )}
        </p>
      )}
      {others.length > 0 && (
        <>
          <h3>Other rules</h3>
          <ul className="others">
            {others.map(({ pattern, why }) => (
              <li key={pattern}>
                <code>{pattern}</code> <span className="faint">{why}</span>
              </li>
            ))}
          </ul>
        </>
      )}
    </>
  );
}

/** Acts after which `in` stands before a channel. */
const inChannel = new Set(['read', 'publish', 'hail', 'set']);

/** One condition, with its parts below it. */
function Part({ asks, holds, found, parts = [] }: Evaluation) {
  return (
    <li>
      <span className={holds ? 'holds' : 'fails'}>{holds ? 'yes' : 'no'}</span> {asks}
      {found !== undefined && <span className="faint"> found {found}</span>}
      {parts.length > 0 && (
        <ul>
          {parts.map((part, index) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: the parts of a rule have no other name, and do not move
            <Part key={index} {...part} />
          ))}
        </ul>
      )}
    </li>
  );
}

function aboutOf({ act, cursor }: Fields): { readonly cursor?: string } {
  return messageActNames.includes(act) && cursor?.trim() ? { cursor: cursor.trim() } : {};
}

function askedOf({ as, user, roles, claims, session, token }: Fields): Asked {
  if (as === 'guest') return { guest: true };
  if (as === 'session') return { session: session ?? '' };
  if (as === 'token') return { token: (token ?? '').trim() };
  return { user: user ?? '', roles: roles ?? [], claims: claimsOf(claims) };
}

function claimsOf(text: string | undefined): NonNullable<Extract<Asked, { user: string }>['claims']> {
  if (!text?.trim()) return {};
  const value: unknown = JSON.parse(text);
  if (typeof value !== 'object' || value === null || Array.isArray(value)) throw new TypeError('not an object');
  return value as never;
}
