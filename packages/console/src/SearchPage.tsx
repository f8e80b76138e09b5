import type { SearchHit } from '@nine-bells/client';
import type { Backend } from '@nine-bells/client/backend';
import { Empty, Input } from 'antd';
import { type ReactNode, useState } from 'react';
import { Link } from 'react-router-dom';
import { Find } from './Find.js';
import { Pager } from './Pager.js';
import { useAnswer } from './queries.js';
import { ScrollTable } from './ScrollTable.js';
import { Trouble } from './Trouble.js';
import { dayTime, texts } from './texts.js';
import { usePages } from './usePages.js';
import { useTitle } from './useTitle.js';

/** Refresh interval of the hits, and poll interval for the progress of the index, in milliseconds. */
const againMs = 30_000;
const progressMs = 5_000;
/** Hits of one page. */
const hitsAtOnce = 50;

/** Searches messages, in channels whose rule has `search`. */
export function SearchPage({ backend }: { readonly backend: Backend }) {
  const [words, setWords] = useState('');
  const [where, setWhere] = useState('');
  useTitle(texts.search);
  const progress = useAnswer(['search-progress'], () => backend.searchProgress(), progressMs);
  const named = where.split(/[\s,]+/).filter((each) => each !== '');
  const found = usePages<SearchHit>(
    ['search', words, named.join()],
    async ({ after }) => {
      if (words === '') return { items: [] };
      const options = { limit: hitsAtOnce, ...(named.length > 0 && { in: named }), ...(after && { after }) };
      const { hits, next } = await backend.search(words, options);
      return { items: hits, next };
    },
    againMs,
  );
  const { channels = 0, messages = 0, ready = 0 } = progress.data ?? {};
  const waiting = messages - ready;
  return (
    <main className="page">
      <h1>Search</h1>
      <div className="side-by-side">
        <Find hint={'Words, "words together", begin*, -not this'} onFind={setWords} />
        <Input
          allowClear
          className="find"
          aria-label="Only in these channels"
          placeholder="Only in: race/3/chat, crew/:boat"
          value={where}
          onChange={({ target }) => setWhere(target.value)}
        />
      </div>
      <p className="faint">
        {channels === 0
          ? 'No channel with messages is searched: a rule turns it on with "search: true".'
          : `${counted(messages, 'message')} in ${counted(channels, 'channel')}${waiting > 0 ? `; ${waiting} cannot be found yet` : ''}`}
      </p>
      <Trouble of={[found.answer, progress]} />
      <ScrollTable<SearchHit>
        label="Messages that were found"
        rowKey={({ channel, cursor }) => `${channel} ${cursor}`}
        loading={found.items === undefined}
        dataSource={[...(found.items ?? [])]}
        pagination={false}
        locale={{ emptyText: <Empty description={words === '' ? 'Say what you look for' : 'Nothing was found'} /> }}
        columns={[
          { title: 'When', dataIndex: 'at', render: (at: string) => dayTime(at) },
          {
            title: 'Channel',
            dataIndex: 'channel',
            render: (channel: string) => <Link to={`/channels/${channel}`}>{channel}</Link>,
          },
          { title: 'By', render: (_, { by }) => by?.name ?? by?.user ?? '' },
          { title: 'Message', render: (_, hit) => marked(hit) },
          {
            title: 'Cursor',
            render: (_, { id, cursor }) => (
              <Link to={`/traces/${id}`} title="What became of it?">
                <code>{cursor}</code>
              </Link>
            ),
          },
        ]}
      />
      <Pager of={found} label="Pages of hits" />
    </main>
  );
}

function counted(count: number, what: string): string {
  return `${count} ${what}${count === 1 ? '' : 's'}`;
}

/** The text of a hit, with the words that were found. */
function marked({ text, marks }: SearchHit): ReactNode {
  const parts: ReactNode[] = [];
  let end = 0;
  for (const { from, to } of marks) {
    parts.push(text.slice(end, from), <mark key={from}>{text.slice(from, to)}</mark>);
    end = to;
  }
  return [...parts, text.slice(end)];
}
