// @vitest-environment happy-dom

import { BackendError } from '@nine-bells/client/backend';
import { QueryClientProvider } from '@tanstack/react-query';
import { act, cleanup, render, screen } from '@testing-library/react';
import { userEvent } from '@testing-library/user-event';
import { App as AntApp } from 'antd';
import type { ReactNode } from 'react';
import { afterEach, describe, expect, it, vi } from 'vitest';
import { Find } from '../src/Find.js';
import { Pager } from '../src/Pager.js';
import { queries, useAnswer, useChange, whenSignedOut } from '../src/queries.js';
import { ErrorBoundary, Trouble } from '../src/Trouble.js';
import { ago, rateText } from '../src/texts.js';
import { usePages } from '../src/usePages.js';

afterEach(() => {
  cleanup();
  queries.clear();
  vi.useRealTimers();
});

function show(page: ReactNode) {
  return render(
    <AntApp>
      <QueryClientProvider client={queries}>{page}</QueryClientProvider>
    </AntApp>,
  );
}

const forever = 1e9;

describe('a list in pages', () => {
  const all = Array.from({ length: 5 }, (_, n) => n + 1);
  const asked: unknown[] = [];

  function Numbers({ find }: { readonly find: string }) {
    const pages = usePages<number>(
      ['numbers', find],
      async ({ after }) => {
        asked.push([find, after]);
        const fitting = all.filter((each) => String(each).includes(find) && each > Number(after ?? 0));
        return { items: fitting.slice(0, 2), next: fitting.length > 2 ? String(fitting[1]) : undefined };
      },
      forever,
    );
    return (
      <>
        <output>{pages.items?.join(' ')}</output>
        <Pager of={pages} label="Pages" />
      </>
    );
  }

  const next = () => screen.getByRole('button', { name: 'Next page' });
  const previous = () => screen.getByRole('button', { name: 'Previous page' });

  it('is gone through forwards and backwards, and each page is asked for behind the one before', async () => {
    asked.length = 0;
    show(<Numbers find="" />);
    await screen.findByText('1 2');
    expect(previous()).toHaveProperty('disabled', true);
    await userEvent.click(next());
    await screen.findByText('3 4');
    await userEvent.click(next());
    await screen.findByText('5');
    expect(next()).toHaveProperty('disabled', true);
    await userEvent.click(previous());
    await screen.findByText('3 4');
    expect(asked.slice(0, 3)).toEqual([
      ['', undefined],
      ['', '2'],
      ['', '4'],
    ]);
  });

  it('begins with the first page when something else is searched for, and shows no way where there is one page', async () => {
    const { rerender } = show(<Numbers find="" />);
    await screen.findByText('1 2');
    await userEvent.click(next());
    await screen.findByText('3 4');
    rerender(
      <AntApp>
        <QueryClientProvider client={queries}>
          <Numbers find="5" />
        </QueryClientProvider>
      </AntApp>,
    );
    await screen.findByText('5');
    expect(screen.queryByRole('navigation')).toBeNull();
  });
});

describe('a search', () => {
  it('is begun once, when nobody types any more', async () => {
    const found = vi.fn();
    show(<Find hint="Find a boat" onFind={found} />);
    await userEvent.type(screen.getByLabelText('Find a boat'), ' petrel ');
    await vi.waitFor(() => expect(found).toHaveBeenLastCalledWith('petrel'));
    expect(found.mock.calls.filter(([text]) => text !== '')).toEqual([['petrel']]);
  });
});

describe('an answer of the service', () => {
  function Answered({ ask }: { readonly ask: () => Promise<string> }) {
    const answer = useAnswer(['answer'], ask, forever);
    const change = useChange(
      async (text: string) => {
        if (text === 'no') throw new BackendError('Not allowed', 403);
        return text;
      },
      (text) => `Done: ${text}`,
    );
    return (
      <>
        <Trouble of={[answer]} />
        <output>{answer.data}</output>
        <button type="button" onClick={() => void change.act('yes')}>
          do it
        </button>
        <button type="button" onClick={() => void change.act('no')}>
          try it
        </button>
      </>
    );
  }

  it('is asked for again after a change, which says what was done', async () => {
    let n = 0;
    show(<Answered ask={async () => `answer ${++n}`} />);
    await screen.findByText('answer 1');
    await userEvent.click(screen.getByText('do it'));
    await screen.findByText('Done: yes');
    await screen.findByText('answer 2');
  });

  it('that fails is shown beside the last one; a change that fails says why', async () => {
    let fails = false;
    const ask = async () => {
      if (fails) throw new Error('the service cannot be reached');
      return 'the first answer';
    };
    show(<Answered ask={ask} />);
    await screen.findByText('the first answer');
    fails = true;
    await act(() => queries.invalidateQueries());
    await screen.findByText('the service cannot be reached');
    await screen.findByText('the first answer');
    await userEvent.click(screen.getByText('try it'));
    await screen.findByText(/Not allowed/);
  });

  it('of 401 leads back to signing in', async () => {
    const signedOut = vi.fn();
    whenSignedOut(signedOut);
    const ended = new BackendError('The key is not valid', 401);
    show(<Answered ask={() => Promise.reject(ended)} />);
    await vi.waitFor(() => expect(signedOut).toHaveBeenCalled());
  });
});

describe('a page that fails', () => {
  it('says so, and what was wrong', () => {
    const silent = vi.spyOn(console, 'error').mockImplementation(() => {});
    const Failing = () => {
      throw new Error('the wind has no direction');
    };
    show(
      <ErrorBoundary>
        <Failing />
      </ErrorBoundary>,
    );
    expect(screen.getByText('the wind has no direction')).toBeTruthy();
    silent.mockRestore();
  });
});

describe('texts', () => {
  it.each([
    [undefined, ''],
    [1, 'just now'],
    [42, '42 s ago'],
    [130, '2 min ago'],
    [7_300, '2 h ago'],
  ])('say how long ago %s seconds are', (seconds, text) => {
    const at = seconds === undefined ? undefined : new Date(Date.now() - seconds * 1000).toISOString();
    expect(ago(at)).toBe(text);
  });

  it.each([
    [undefined, '–'],
    [0, '0'],
    [0.24, '0.2'],
    [12.6, '13'],
  ])('give the rate %s as many digits as it deserves', (rate, text) => expect(rateText(rate)).toBe(text));
});
