import type { Backend, TrafficFigures } from '@nine-bells/client/backend';
import type { ChannelRuleInfo, ContractInfo } from '@nine-bells/wire';
import { accessText, ruleTraits } from '@nine-bells/wire/describe';
import { Tag } from 'antd';
import { NavLink, useParams } from 'react-router-dom';
import { useAnswer } from '../queries.js';
import { Trouble } from '../Trouble.js';
import { rateText, texts } from '../texts.js';
import { useTitle } from '../useTitle.js';
import { ContractView } from './ContractView.js';
import { TryForm } from './TryForm.js';

/** A reference of the channel rules: what each is about, who may do what, what passes through it, and a form to try it. */
export function RulesPage({ backend, mayPublish }: { readonly backend: Backend; readonly mayPublish: boolean }) {
  useTitle(texts.rules);
  const { '*': chosen = '' } = useParams();
  const answer = useAnswer(['rules'], () => backend.rules(), 60_000);
  const traffic = useAnswer(['traffic'], () => backend.traffic(), 5_000);
  const { rules = [], notices } = answer.data ?? {};
  const rule = rules.find(({ pattern }) => pattern === chosen) ?? rules[0];
  const figures = traffic.data?.rules.find(({ pattern }) => pattern === rule?.pattern);
  return (
    <main className="page rules-page">
      <nav aria-label={texts.rules}>
        {rules.map(({ pattern, about }) => (
          <NavLink key={pattern} to={`/rules/${pattern}`} className={pattern === rule?.pattern ? 'active' : ''}>
            <code>{pattern}</code>
            <span className="faint">{about}</span>
          </NavLink>
        ))}
      </nav>
      <div>
        <Trouble of={[answer]} />
        {rule !== undefined && (
          <RuleDetail
            key={rule.pattern}
            backend={backend}
            rule={rule}
            mayPublish={mayPublish}
            rates={figures && ratesOf(figures, traffic.data?.minutesForMs ?? 1)}
          />
        )}
        {notices !== undefined && (
          <section>
            <h2>Notices</h2>
            <ContractView contract={notices} />
          </section>
        )}
      </div>
    </main>
  );
}

function RuleDetail({
  backend,
  rule,
  mayPublish,
  rates,
}: {
  readonly backend: Backend;
  readonly rule: ChannelRuleInfo;
  readonly mayPublish: boolean;
  readonly rates: string | undefined;
}) {
  const { pattern, about, allow, board, types, hails, status } = rule;
  return (
    <>
      <h1>
        <code>{pattern}</code>
      </h1>
      <p>
        {about}{' '}
        {ruleTraits(rule).map((each) => (
          <Tag key={each}>{each}</Tag>
        ))}
      </p>
      {rates !== undefined && <p className="faint">{rates}</p>}
      <section>
        <h2>Who may do what</h2>
        <table className="allowed">
          <tbody>
            {Object.entries(allow).map(([act, access]) => (
              <tr key={act}>
                <th scope="row">{act}</th>
                <td>
                  {accessText(access)}
                  {act === 'publish' && <span className="faint"> of the clients; applications with their key may</span>}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </section>
      <Contracts title="Messages" of={types} otherwise="Messages of any type, with any data." />
      <Contracts title="Hails" of={hails} />
      {board !== undefined && (
        <section>
          <h2>Entries of the board</h2>
          <ContractView contract={board.contract ?? {}} />
        </section>
      )}
      {status !== undefined && (
        <section>
          <h2>Status of members</h2>
          <ContractView contract={status} />
        </section>
      )}
      {mayPublish && <TryForm backend={backend} rule={rule} />}
    </>
  );
}

function Contracts({
  title,
  of,
  otherwise,
}: {
  readonly title: string;
  readonly of: Readonly<Record<string, ContractInfo>> | undefined;
  readonly otherwise?: string;
}) {
  if (of === undefined && otherwise === undefined) return null;
  return (
    <section>
      <h2>{title}</h2>
      {of === undefined && <p>{otherwise}</p>}
      {Object.entries(of ?? {}).map(([type, each]) => (
        <ContractView key={type} name={type} contract={each} />
      ))}
    </section>
  );
}

function ratesOf({ messages, changes, deliveries }: TrafficFigures, forMs: number): string {
  const rate = (count: number): string => rateText((count * 1000) / forMs);
  return `In the last hour: ${rate(messages)} messages, ${rate(changes)} changes and ${rate(deliveries)} deliveries a second.`;
}
