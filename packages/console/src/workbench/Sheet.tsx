import { Button, Dropdown, type MenuProps, Tag } from 'antd';
import { useLayoutEffect, useRef } from 'react';
import type { Bench, Shown } from './bench.js';
import type { Chosen } from './Details.js';
import { type ActRow, isMissing, type Members, type NoteRow, type PushRow, type Row } from './recorder.js';

interface SheetProps {
  readonly bench: Bench;
  readonly clients: readonly Shown[];
  readonly rows: readonly Row[];
  readonly chosen: Chosen | undefined;
  readonly onChoose: (chosen: Chosen) => void;
}

/** Most characters of a frame in a cell; a click shows all. */
const mostShown = 200;
/** How near the end counts as there, in pixels. */
const near = 40;

/** All frames in one order, with a column for each client: a push that reached several is one line. */
export function Sheet({ bench, clients, rows, chosen, onChoose }: SheetProps) {
  const box = useRef<HTMLDivElement>(null);
  const isAtEnd = useRef(true);
  useLayoutEffect(() => {
    const element = box.current;
    if (element !== null && isAtEnd.current && rows.length > 0) element.scrollTop = element.scrollHeight;
  }, [rows]);
  const follow = (): void => {
    const element = box.current;
    if (element !== null) isAtEnd.current = element.scrollHeight - element.scrollTop - element.clientHeight < near;
  };
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls must be reached by the keyboard
    <div className="sheet" ref={box} onScroll={follow} tabIndex={0}>
      <table>
        <thead>
          <tr>
            <th className="sheet-time">ms</th>
            {clients.map((each) => (
              <th key={each.wish.name}>
                <ClientHead bench={bench} shown={each} />
              </th>
            ))}
            <th>Application</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((row) => (
            <tr key={row.number} className={chosen?.row.number === row.number ? 'chosen' : ''}>
              <td className="sheet-time">{Math.round(row.atMs)}</td>
              {clients.map(({ wish: { name } }) => (
                <td key={name}>{cellOf(row, name, onChoose)}</td>
              ))}
              <td>{row.kind === 'note' && row.client === undefined && <Note row={row} onChoose={onChoose} />}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function cellOf(row: Row, name: string, onChoose: SheetProps['onChoose']) {
  if (row.kind === 'push') return <Push row={row} name={name} onChoose={onChoose} />;
  if (row.client !== name) return null;
  return row.kind === 'act' ? <Act row={row} onChoose={onChoose} /> : <Note row={row} onChoose={onChoose} />;
}

function Act({ row, onChoose }: { readonly row: ActRow; readonly onChoose: SheetProps['onChoose'] }) {
  const { client, verb, members, reply, problem } = row;
  return (
    <button type="button" className="frame-cell sent" onClick={() => onChoose({ row, client })}>
      <span className="arrow">→</span> <b>{verb}</b> {summaryOf(members)}{' '}
      {reply === undefined ? (
        <span className="faint">…</span>
      ) : (
        <>
          <span className={problem === undefined ? 'answered' : 'alarm'}>
            {problem === undefined ? 'done' : problem.code}
          </span>{' '}
          <span className="faint">{msText(reply.atMs - row.atMs)}</span>
          {reply.how === 'lost' && <Tag>reply lost</Tag>}
        </>
      )}
    </button>
  );
}

function Push({
  row,
  name,
  onChoose,
}: {
  readonly row: PushRow;
  readonly name: string;
  readonly onChoose: SheetProps['onChoose'];
}) {
  const passed = row.arrivals.get(name);
  if (passed === undefined)
    return row.on === 'message' && isMissing(row, name) ? (
      <Button size="small" type="link" className="missing" onClick={() => onChoose({ row, client: name })}>
        not here: why?
      </Button>
    ) : null;
  return (
    <button type="button" className="frame-cell" onClick={() => onChoose({ row, client: name })}>
      <span className="arrow">←</span> <b>{row.on}</b> {summaryOf(row.frame)}{' '}
      {passed.atMs > row.atMs && <span className="faint">+{msText(passed.atMs - row.atMs)}</span>}
      {passed.how === 'recovered' && <Tag>caught up</Tag>}
      {passed.how === 'lost' && <Tag>lost</Tag>}
    </button>
  );
}

function Note({ row, onChoose }: { readonly row: NoteRow; readonly onChoose: SheetProps['onChoose'] }) {
  const { words, client, text, isBad } = row;
  const shown = <span className={isBad ? 'alarm' : 'faint'}>{words}</span>;
  return text === undefined ? (
    <span className="frame-cell note">{shown}</span>
  ) : (
    <button type="button" className="frame-cell note" onClick={() => onChoose({ row, client: client ?? '' })}>
      {shown}
    </button>
  );
}

/** The head of a column: who it is, how it stands, and what can be done to it. */
function ClientHead({ bench, shown }: { readonly bench: Bench; readonly shown: Shown }) {
  const { wish, isOpen, isPaused, loses, delay, why, user } = shown;
  const { name, transport } = wish;
  const items: MenuProps['items'] = [
    ...(isOpen
      ? [
          { key: 'cut', label: 'Cut the connection', onClick: () => bench.cut(name) },
          { key: 'offline', label: 'Offline for 5 s', onClick: () => void bench.offline(name, 5_000) },
          { key: 'close', label: 'Close with a goodbye', onClick: () => bench.close(name) },
        ]
      : [{ key: 'connect', label: 'Connect', onClick: () => void bench.connect(name) }]),
    { type: 'divider' },
    isPaused
      ? { key: 'resume', label: 'Read again', onClick: () => bench.pause(name, false) }
      : { key: 'pause', label: 'Stop reading', onClick: () => bench.pause(name, true) },
    {
      key: 'delay',
      label: 'Delay',
      children: [
        { key: 'd0', label: 'None', onClick: () => bench.delay(name, 0, 0) },
        { key: 'd1', label: '200 ms', onClick: () => bench.delay(name, 200, 200) },
        { key: 'd2', label: '50 to 800 ms, unsteady', onClick: () => bench.delay(name, 50, 800) },
        { key: 'd3', label: '3 s', onClick: () => bench.delay(name, 3_000, 3_000) },
      ],
    },
    {
      key: 'lose',
      label: 'Lose',
      children: (['nothing', 'replies', 'pushes'] as const).map((each) => ({
        key: `l-${each}`,
        label: each[0]?.toUpperCase() + each.slice(1),
        onClick: () => bench.lose(name, each),
      })),
    },
    {
      key: 'transport',
      label: 'Transport',
      children: (['websocket', 'stream', 'poll'] as const).map((each) => ({
        key: `t-${each}`,
        label: each,
        disabled: each === transport,
        onClick: () => void bench.transport(name, each),
      })),
    },
    { type: 'divider' },
    { key: 'second', label: 'Second device of the same user', onClick: () => void bench.secondDevice(name) },
    { key: 'remove', label: 'Remove', danger: true, onClick: () => bench.remove(name) },
  ];
  return (
    <div className="client-head">
      <span
        className={`lamp ${isOpen ? 'on' : 'off'}`}
        role="img"
        aria-label={isOpen ? 'connected' : 'not connected'}
      />
      <b>{name}</b>
      <span className="faint">{user === name ? '' : user}</span>
      {transport !== 'websocket' && <Tag>{transport}</Tag>}
      {isPaused && <Tag color="error">not reading</Tag>}
      {loses !== 'nothing' && <Tag color="error">loses {loses}</Tag>}
      {delay.most > 0 && (
        <Tag color="error">
          {delay.least === delay.most ? `${delay.most} ms` : `${delay.least} to ${delay.most} ms`}
        </Tag>
      )}
      <Dropdown menu={{ items }} trigger={['click']}>
        <Button size="small" type="text" aria-label={`What to do with ${name}`}>
          ⋯
        </Button>
      </Dropdown>
      {why !== undefined && <div className="alarm why">{why}</div>}
    </div>
  );
}

/** A frame in a few words. */
function summaryOf(frame: Members): string {
  const { channel, data, user, reason, title, enter, type, status, joined, left, count, message } = frame;
  const entered = Array.isArray(enter) ? enter.map((each) => (each as Members).channel).join(', ') : undefined;
  const told = [
    channel,
    type === 'message' ? undefined : type,
    user,
    entered,
    title,
    reason,
    status === undefined || status === null ? undefined : JSON.stringify(status),
    joined === undefined ? undefined : `${(joined as unknown[]).length} came`,
    left === undefined ? undefined : `${(left as unknown[]).length} left`,
    count === undefined ? undefined : `${count} here`,
    data === undefined || data === null ? undefined : JSON.stringify(data),
    changeOf(message),
  ];
  const words = told.filter((each) => each !== undefined).join(' ');
  return words.length > mostShown ? `${words.slice(0, mostShown)}…` : words;
}

/** How a message stands after a change. */
function changeOf(message: unknown): string | undefined {
  if (typeof message !== 'object' || message === null) return undefined;
  const { cursor, data, withdrawn } = message as Members;
  return `${cursor} ${withdrawn ? 'withdrawn' : JSON.stringify(data)}`;
}

function msText(ms: number): string {
  return ms < 10 ? `${ms.toFixed(1)} ms` : `${Math.round(ms)} ms`;
}
