import type { Backend, Traffic, TrafficFigures } from '@nine-bells/client/backend';
import { Alert } from 'antd';
import type { ColumnsType } from 'antd/es/table';
import { Link } from 'react-router-dom';
import { LineChart } from './LineChart.js';
import { useAnswer } from './queries.js';
import { ScrollTable } from './ScrollTable.js';
import { Trouble } from './Trouble.js';
import { texts } from './texts.js';
import type { Light } from './theme.js';
import { useTitle } from './useTitle.js';

type ChannelRow = Traffic['channels'][number];
type RuleRow = Traffic['rules'][number];

/** What goes in and out: over the last hour, by rule, by channel; and what a board would save. */
export function TrafficPage({ backend, light }: { readonly backend: Backend; readonly light: Light }) {
  useTitle(texts.traffic);
  const answer = useAnswer(['traffic'], () => backend.traffic(), 5_000);
  const { minutes = [], rules = [], channels = [], minutesForMs = 1, channelsForMs = 1 } = answer.data ?? {};
  const { frames = 0, writes = 0 } = answer.data ?? {};
  // The present minute is not over.
  const perS = (of: (each: TrafficFigures) => number): number[] =>
    minutes.map((each) => (of(each) * 1000) / each.forMs);
  return (
    <main className="page">
      <h1>{texts.traffic}</h1>
      <Trouble of={[answer]} />
      <LineChart
        label="Messages and changes in, and deliveries out, per second, in each minute of the last hour"
        atS={minutes.map(({ at }) => Date.parse(at) / 1000)}
        leastS={600}
        series={[
          {
            label: 'messages and changes in per second',
            color: 'tide',
            values: perS(({ messages, changes }) => messages + changes),
          },
          {
            label: 'deliveries out per second',
            color: 'brass',
            isFilled: true,
            values: perS(({ deliveries }) => deliveries),
          },
        ]}
        light={light}
      />
      {channels.map((each) => each.advice && <Advice key={each.channel} {...each} advice={each.advice} />)}
      <section>
        <h2>Channels, in the last minute</h2>
        <ScrollTable<ChannelRow>
          label="Channels"
          rowKey="channel"
          dataSource={[...channels]}
          pagination={false}
          columns={[
            {
              title: 'Channel',
              dataIndex: 'channel',
              render: (name: string) => (
                <Link to={`/channels/${name}`} className="name">
                  {name}
                </Link>
              ),
            },
            { title: 'Clients', dataIndex: 'recipients', align: 'right' },
            ...columnsFor<ChannelRow>(channelsForMs),
          ]}
        />
      </section>
      <section>
        <h2>Channel rules, in the last hour</h2>
        <ScrollTable<RuleRow>
          label="Channel rules"
          rowKey="pattern"
          dataSource={[...rules]}
          pagination={false}
          columns={[{ title: 'Rule', dataIndex: 'pattern' }, ...columnsFor<RuleRow>(minutesForMs)]}
        />
        {writes > 0 && (
          <p className="faint">{(frames / writes).toFixed(1)} frames in each write to a connection, since the start.</p>
        )}
      </section>
    </main>
  );
}

/** What a board would save in a channel, and the two lines that make it one. */
function Advice({
  channel,
  pattern,
  recipients,
  advice: { type, entry, perS, entries, framesPerS },
}: ChannelRow & { readonly advice: NonNullable<ChannelRow['advice']> }) {
  const values = entries === 1 ? 'one value' : `${entries} values`;
  return (
    <Alert
      type="info"
      title={`${channel} would be lighter with a board`}
      description={
        <>
          <p>
            {Math.round(perS)} messages a second of the type {type} replace {values} again and again. As a board they
            would be {Math.round(framesPerS * recipients)} deliveries a second in place of{' '}
            {Math.round(perS * recipients)}: {Math.round((1 - framesPerS / perS) * 100)}% less. In the rule {pattern}:
          </p>
          <pre>{`    board:\n      types: { ${type}: { entry: ${entry} } }`}</pre>
        </>
      }
    />
  );
}

/** The figures of a row, as rates over a time. */
function columnsFor<Row extends TrafficFigures>(forMs: number): ColumnsType<Row> {
  const rate = (count: number): string => ((count * 1000) / forMs).toFixed(1);
  const column = (title: string, render: (row: Row) => string): ColumnsType<Row>[number] => ({
    title,
    align: 'right',
    render: (_, row) => render(row),
  });
  return [
    column('Messages/s', ({ messages }) => rate(messages)),
    column('Changes/s', ({ changes }) => rate(changes)),
    column('Merged', ({ merged, changes }) => (changes === 0 ? '' : `${Math.round((merged / changes) * 100)}%`)),
    column('Deliveries/s', ({ deliveries }) => rate(deliveries)),
    column('Out per in', ({ messages, changes, deliveries }) =>
      messages + changes === 0 ? '' : (deliveries / (messages + changes)).toFixed(1),
    ),
    column('Out', ({ bytes }) => `${((bytes * 1000) / forMs / 1024).toFixed(1)} KiB/s`),
  ];
}
