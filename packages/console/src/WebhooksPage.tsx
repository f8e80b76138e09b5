import type { Backend } from '@nine-bells/client/backend';
import { Segmented } from 'antd';
import { useSearchParams } from 'react-router-dom';
import { texts } from './texts.js';
import { useTitle } from './useTitle.js';
import { Arrivals } from './webhooks/Arrivals.js';
import { Deliveries } from './webhooks/Deliveries.js';
import { Hooks } from './webhooks/Hooks.js';

const views = [
  { value: 'in', label: 'What came in' },
  { value: 'out', label: 'What goes out' },
  { value: 'hooks', label: 'Hooks and feeds' },
];

/** Events from other systems and deliveries to them, with every attempt. */
export function WebhooksPage({ backend, mayAct }: { readonly backend: Backend; readonly mayAct: boolean }) {
  useTitle(texts.webhooks);
  const [search, setSearch] = useSearchParams();
  const view = search.get('view') ?? 'in';
  return (
    <main className="page">
      <h1>{texts.webhooks}</h1>
      <Segmented
        aria-label="View"
        options={views}
        value={view}
        onChange={(next) => setSearch({ view: String(next) }, { replace: true })}
      />
      {view === 'in' && <Arrivals backend={backend} mayAct={mayAct} />}
      {view === 'out' && <Deliveries backend={backend} mayAct={mayAct} />}
      {view === 'hooks' && <Hooks backend={backend} mayAct={mayAct} />}
    </main>
  );
}
