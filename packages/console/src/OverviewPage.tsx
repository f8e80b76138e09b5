import type { Backend, ChannelInfo } from '@nine-bells/client/backend';
import { Empty, Tag } from 'antd';
import { useState } from 'react';
import { Link } from 'react-router-dom';
import { Find } from './Find.js';
import { Pager } from './Pager.js';
import { RateChart } from './RateChart.js';
import { Refusals } from './Refusals.js';
import { ScrollTable } from './ScrollTable.js';
import { Trouble } from './Trouble.js';
import { ago, rateText, texts } from './texts.js';
import type { Light } from './theme.js';
import type { LiveOverview, Second } from './useOverview.js';
import { usePages } from './usePages.js';
import { useTitle } from './useTitle.js';

export interface OverviewPageProps {
  readonly backend: Backend;
  readonly overview: LiveOverview;
  readonly light: Light;
}

/** The overview: current figures, their last minutes, and the channels. */
export function OverviewPage({ backend, overview, light }: OverviewPageProps) {
  const { latest, seconds } = overview;
  useTitle(texts.overview);
  const [find, setFind] = useState('');
  const channels = usePages<ChannelInfo>(
    ['channels', find],
    async (query) => {
      const { channels: items, next } = await backend.channels({ ...query, ...(find === '' ? {} : { find }) });
      return { items, next };
    },
    2000,
  );
  return (
    <main className="page">
      <h1 className="unseen">{texts.overview}</h1>
      <dl className="figures">
        <Figure label="Connections" value={latest === undefined ? '' : String(latest.connections)} />
        <Figure label="Channels entered" value={latest === undefined ? '' : String(latest.enteredChannels)} />
        <Figure label="Messages in per second" value={rateText(meanOf(seconds, 'messagesIn'))} note="mean of 10 s" />
        <Figure label="Deliveries out per second" value={rateText(meanOf(seconds, 'deliveries'))} note="mean of 10 s" />
      </dl>
      <RateChart backend={backend} seconds={seconds} light={light} />
      <Refusals backend={backend} />
      <section>
        <h2>Channels</h2>
        <Find hint={texts.findChannel} onFind={setFind} />
        <Trouble of={[channels.answer]} />
        <ScrollTable<ChannelInfo>
          label="Channels"
          rowKey="channel"
          loading={channels.items === undefined}
          dataSource={[...(channels.items ?? [])]}
          pagination={false}
          locale={{
            emptyText: (
              <Empty
                description={
                  find === '' ? 'Nothing has been published or entered yet' : 'No channel has this in its name'
                }
              />
            ),
          }}
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
            { title: 'About', dataIndex: 'about', responsive: ['md'] },
            {
              title: 'Logbook',
              dataIndex: 'logbook',
              render: (logbook?: string) => (logbook === undefined ? <Tag color="error">no rule</Tag> : logbook),
            },
            { title: 'Entered by', dataIndex: 'entered', align: 'right' },
            { title: 'Stands at', dataIndex: 'cursor', render: (cursor?: string) => <code>{cursor}</code> },
            { title: 'Last message', dataIndex: 'lastAt', render: (at?: string) => ago(at) },
          ]}
        />
        <Pager of={channels} label="Pages of channels" />
      </section>
    </main>
  );
}

function Figure({ label, value, note }: { readonly label: string; readonly value: string; readonly note?: string }) {
  return (
    <div>
      <dt>{label}</dt>
      <dd>
        {value}
        {note !== undefined && <small>{note}</small>}
      </dd>
    </div>
  );
}

/** The mean of the last ten seconds: single seconds jump between nothing and much. */
function meanOf(seconds: readonly Second[], name: 'messagesIn' | 'deliveries'): number | undefined {
  const last = seconds.slice(-10);
  return last.length === 0 ? undefined : last.reduce((sum, each) => sum + each[name], 0) / last.length;
}
