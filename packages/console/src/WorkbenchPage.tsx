import type { Backend } from '@nine-bells/client/backend';
import { Button, Checkbox, Drawer, Empty, Input, Segmented, Tag } from 'antd';
import { useEffect, useState, useSyncExternalStore } from 'react';
import { texts } from './texts.js';
import { useTitle } from './useTitle.js';
import { Bench } from './workbench/bench.js';
import { ClientForm } from './workbench/ClientForm.js';
import { Composer } from './workbench/Composer.js';
import { type Chosen, Details } from './workbench/Details.js';
import type { Row } from './workbench/recorder.js';
import { Sheet } from './workbench/Sheet.js';

const kinds = { all: 'All', act: 'Requests', push: 'Pushes', note: 'Connections' } as const;
/** Most rows that are drawn. */
const mostDrawn = 400;

/** Clients side by side: what each sends and receives, faults of their networks, and all of it as a drill. */
export function WorkbenchPage({ backend }: { readonly backend: Backend }) {
  useTitle(texts.workbench);
  const [bench] = useState(() => new Bench(backend, location.origin));
  const clients = useSyncExternalStore(bench.subscribe, () => bench.clients);
  const live = useSyncExternalStore(bench.recorder.subscribe, () => bench.recorder.rows);
  const [stopped, setStopped] = useState<readonly Row[]>();
  const [kind, setKind] = useState<keyof typeof kinds>('all');
  const [isAdding, setAdding] = useState(false);
  const [chosen, setChosen] = useState<Chosen>();
  const [isWriting, setWriting] = useState(false);

  // Nothing stays connected when the page is left.
  useEffect(() => {
    const end = (): void => bench.end();
    window.addEventListener('pagehide', end);
    return () => {
      window.removeEventListener('pagehide', end);
      end();
    };
  }, [bench]);

  const rows = (stopped ?? live).filter((row) => kind === 'all' || row.kind === kind).slice(-mostDrawn);
  return (
    <main className="page workbench-page">
      <div className="workbench-head">
        <h1>{texts.workbench}</h1>
        <Button type={clients.length === 0 ? 'primary' : 'default'} onClick={() => setAdding(true)}>
          Add a client
        </Button>
        <Segmented
          aria-label="What is shown"
          options={Object.entries(kinds).map(([value, label]) => ({ value, label }))}
          value={kind}
          onChange={(value) => setKind(value as keyof typeof kinds)}
        />
        <Button onClick={() => setStopped(stopped === undefined ? live : undefined)} disabled={live.length === 0}>
          {stopped === undefined ? 'Pause' : 'Go on'}
        </Button>
        {stopped !== undefined && live.length > stopped.length && <Tag>{live.length - stopped.length} more</Tag>}
        <Button onClick={() => bench.recorder.clear()} disabled={live.length === 0}>
          Clear
        </Button>
        <Button onClick={() => setWriting(true)} disabled={live.length === 0}>
          Write a drill
        </Button>
      </div>
      {clients.length === 0 ? (
        <Empty
          className="workbench-empty"
          description={
            <>
              <p>Add two or three clients, let one of them enter a channel and publish, and see who receives what.</p>
              <p className="faint">
                They are made-up users with real connections to this service. They leave when you leave this page; the
                audit log names each.
              </p>
            </>
          }
        />
      ) : (
        <>
          <Sheet bench={bench} clients={clients} rows={rows} chosen={chosen} onChoose={setChosen} />
          <Composer backend={backend} bench={bench} clients={clients} />
        </>
      )}
      <ClientForm backend={backend} bench={bench} isOpen={isAdding} onClose={() => setAdding(false)} />
      <Drawer title="In full" size={560} open={chosen !== undefined} onClose={() => setChosen(undefined)}>
        {chosen !== undefined && <Details backend={backend} clients={clients} chosen={chosen} />}
      </Drawer>
      <Drawer title="As a drill" size={760} open={isWriting} onClose={() => setWriting(false)} destroyOnHidden>
        <DrillDrawer bench={bench} />
      </Drawer>
    </main>
  );
}

/** The drill's text, to be trimmed and saved. */
function DrillDrawer({ bench }: { readonly bench: Bench }) {
  const [name, setName] = useState('What was tried in the workbench');
  const [all, setAll] = useState(false);
  const [edited, setEdited] = useState<string>();
  const text = edited ?? bench.drill(name, all);
  const file = `${
    name
      .toLowerCase()
      .replace(/[^a-z0-9]+/g, '-')
      .replace(/^-+|-+$/g, '') || 'workbench'
  }.drill.yaml`;
  const save = (): void => {
    const link = document.createElement('a');
    link.href = URL.createObjectURL(new Blob([text], { type: 'application/yaml' }));
    link.download = file;
    link.click();
    URL.revokeObjectURL(link.href);
  };
  return (
    <div className="drill-drawer">
      <div>
        Name
        <Input
          aria-label="Name of the drill"
          value={name}
          onChange={({ target }) => {
            setName(target.value);
            setEdited(undefined);
          }}
        />
      </div>
      <Checkbox
        checked={all}
        onChange={({ target }) => {
          setAll(target.checked);
          setEdited(undefined);
        }}
      >
        Expect every push, not only messages, notices and removals
      </Checkbox>
      <Input.TextArea
        aria-label="The drill"
        className="code"
        value={text}
        autoSize={{ minRows: 16, maxRows: 32 }}
        onChange={({ target }) => setEdited(target.value)}
      />
      <div className="row-of-buttons">
        <Button type="primary" onClick={save}>
          Save {file}
        </Button>
        <Button onClick={() => void navigator.clipboard.writeText(text)}>Copy</Button>
      </div>
      <p className="faint">
        Take out what does not matter, put your configuration in <code>config</code>, and run it:{' '}
        <code>ninebells drill {file}</code>. Cursors and ids differ from run to run: where a step has one, capture it
        with <code>as</code> in the step that gave it.
      </p>
    </div>
  );
}
