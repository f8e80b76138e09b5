import { connect, type Json, type LineState, type Message, type Problem } from '@nine-bells/client';
import type { Backend } from '@nine-bells/client/backend';
import { useCallback, useEffect, useRef, useState } from 'react';

/** A message, or the word that some are missing. */
export type Shown = { readonly message: Message } | { readonly gap: string };

export interface ChannelMessages {
  /** Oldest first. */
  readonly shown: readonly Shown[];
  readonly line: LineState;
  readonly refused: Problem | undefined;
  /** Whether there are earlier ones in the record. */
  readonly earlier: boolean;
  /** The entries of the channel's board, by name; `undefined`: it has none, as far as is known. */
  readonly board: readonly (readonly [string, Json])[] | undefined;
  /** Puts earlier ones in front. */
  readonly loadEarlier: () => Promise<void>;
}

/** How many messages to begin with, and to load at a time. */
const pageMessages = 50;
/** How often a board is shown anew, in milliseconds. */
const boardPaceMs = 500;
/** Beyond this many the oldest are let go; they are in the record. */
const maxShown = 2000;

/** The messages of a channel as they pass, over the console's own line, which no member of the channel sees. */
export function useChannelMessages(backend: Backend, channel: string): ChannelMessages {
  const [shown, setShown] = useState<readonly Shown[]>([]);
  const [line, setLine] = useState<LineState>({ name: 'connecting' });
  const [refused, setRefused] = useState<Problem>();
  const [earlier, setEarlier] = useState(false);
  const [board, setBoard] = useState<ChannelMessages['board']>();
  const loading = useRef(false);

  useEffect(() => {
    const opened = connect(location.origin, { token: async () => (await backend.observerToken()).token });
    opened.addEventListener('state', ({ detail }) => setLine(detail));
    const entry = opened.enter(channel, { last: pageMessages, quiet: true, pace: boardPaceMs });
    const showBoard = (): void => {
      if (entry.board.version !== undefined) setBoard([...entry.board].sort(([a], [b]) => (a < b ? -1 : 1)));
    };
    entry.board.addEventListener('change', showBoard);
    entry.addEventListener('live', showBoard);
    entry.addEventListener('message', ({ detail }) =>
      setShown((before) => [...before.slice(-maxShown), { message: detail }]),
    );
    entry.addEventListener('change', ({ detail }) => {
      const isIt = (each: Shown): boolean => 'message' in each && each.message.cursor === detail.cursor;
      setShown((before) => before.map((each) => (isIt(each) ? { message: detail } : each)));
    });
    entry.addEventListener('gap', ({ detail }) => setShown((before) => [...before, { gap: `${detail.why}` }]));
    entry.addEventListener('refused', ({ detail }) => setRefused(detail));
    entry.addEventListener('live', () =>
      setShown((now) => {
        const first = now.find((each) => 'message' in each);
        if (first !== undefined && !first.message.cursor.endsWith(':1')) setEarlier(true);
        return now;
      }),
    );
    return () => {
      opened.close();
      setShown([]);
      setRefused(undefined);
      setEarlier(false);
      setBoard(undefined);
    };
  }, [backend, channel]);

  const loadEarlier = useCallback(async () => {
    const first = shown.find((each) => 'message' in each);
    if (loading.current || first === undefined) return;
    loading.current = true;
    try {
      const { messages, more } = await backend.read(channel, { before: first.message.cursor, limit: pageMessages });
      setShown((now) => [...messages.map((message) => ({ message })), ...now]);
      setEarlier(more);
    } catch {
      // The frame shows that the service cannot be reached; scrolling asks again.
    } finally {
      loading.current = false;
    }
  }, [backend, channel, shown]);

  return { shown, line, refused, earlier, board, loadEarlier };
}
