import type { Backend, RefusalKind } from '@nine-bells/client/backend';
import { Link } from 'react-router-dom';
import { useAnswer } from './queries.js';
import { ScrollTable } from './ScrollTable.js';
import { ago } from './texts.js';

/** Acts that the page of access rules explains, in a channel. */
const explained = new Set(['enter', 'read', 'publish', 'hail', 'remove', 'silence']);

/** Recent refusals by kind; renders nothing while there are none. */
export function Refusals({ backend }: { readonly backend: Backend }) {
  const { data: found } = useAnswer(['refusals'], () => backend.refusals(), 5000);
  const { data: sessions } = useAnswer(['sessions'], () => backend.sessions({ limit: 1000 }), 10_000);
  const connected = new Set(sessions?.sessions.map(({ session }) => session));
  if (found === undefined || found.refusals.length === 0) return null;
  return (
    <section className="refusals">
      <h2>Refused</h2>
      <ScrollTable<RefusalKind>
        label="Refused"
        rowKey={({ code, act, reportOnly }) => `${code} ${act} ${reportOnly}`}
        dataSource={[...found.refusals]}
        pagination={{ pageSize: 4, hideOnSinglePage: true }}
        columns={[
          { title: 'Last', dataIndex: 'lastAt', render: (at: string) => ago(at) },
          { title: 'Times', dataIndex: 'count', align: 'right' },
          { title: 'Code', dataIndex: 'code', render: (code: string) => <code>{code}</code> },
          { title: 'At', render: (_, { act, reportOnly }) => (reportOnly ? `${act} (let pass)` : act) },
          { title: 'Whom', render: (_, { latest }) => <Whom {...latest.at(-1)} /> },
          { title: 'Where', render: (_, { latest }) => latest.at(-1)?.channel ?? latest.at(-1)?.origin },
          { title: 'Rule', render: (_, kind) => <Explain {...kind} connected={connected} /> },
          { title: 'Why', render: (_, { latest }) => <span className="why">{latest.at(-1)?.detail}</span> },
        ]}
      />
    </section>
  );
}

/** The user, with what can be done about it; else the address. */
function Whom({ user, address }: { readonly user?: string; readonly address?: string }) {
  return user === undefined ? address : <Link to={`/people?user=${encodeURIComponent(user)}`}>{user}</Link>;
}

/** Where a rule has decided, the page that explains it. */
function Explain({ code, act, latest, connected }: RefusalKind & { readonly connected: ReadonlySet<string> }) {
  const { channel, session, user } = latest.at(-1) ?? {};
  if (code !== 'not-allowed' || channel === undefined || !explained.has(act)) return null;
  const asked = new URLSearchParams({ act: act === 'remove' || act === 'silence' ? 'moderate' : act, channel });
  // Only a session that is still connected can be asked about, with all claims of its token.
  if (session !== undefined && connected.has(session)) asked.set('session', session);
  else if (user !== undefined) asked.set('user', user);
  return <Link to={`/access?${asked}`}>Explain</Link>;
}
