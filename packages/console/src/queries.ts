import { BackendError } from '@nine-bells/client/backend';
import { QueryCache, QueryClient, useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { App } from 'antd';

/** Called when the service no longer takes the console's session. */
let onSignedOut: () => void = () => {};

/** Names what happens when the console's session has ended. */
export function whenSignedOut(act: () => void): void {
  onSignedOut = act;
}

/** What the service has answered, shared by all pages. */
export const queries = new QueryClient({
  queryCache: new QueryCache({
    onError: (error) => {
      if (hasEnded(error)) onSignedOut();
    },
  }),
  defaultOptions: {
    queries: {
      // A refusal stays one; what cannot be reached is asked again at the next interval.
      retry: false,
      staleTime: 1_000,
      refetchOnWindowFocus: true,
    },
  },
});

function hasEnded(error: unknown): boolean {
  return error instanceof BackendError && error.status === 401;
}

/** An answer of the service: the last one stays while the service cannot be reached. */
export interface Answer<T> {
  readonly data: T | undefined;
  readonly error: Error | null;
}

/**
 * Asks every so often, and again after a change. Nothing is asked while the tab is hidden.
 *
 * @param name - what is asked for: pages that name the same share one answer
 * @param everyMs - milliseconds
 */
export function useAnswer<T>(name: readonly unknown[], ask: () => Promise<T>, everyMs: number): Answer<T> {
  const { data, error } = useQuery({ queryKey: name, queryFn: ask, refetchInterval: everyMs });
  return { data, error };
}

/**
 * A change: what it was asked for is told as a message, and every answer is asked for anew.
 *
 * @param done - the message after success
 */
export function useChange<V, R>(change: (about: V) => Promise<R>, done: (result: R, about: V) => string) {
  const { message } = App.useApp();
  const client = useQueryClient();
  const { mutateAsync, isPending } = useMutation({
    mutationFn: change,
    onSuccess: (result, about) => {
      void message.success(done(result, about));
      void client.invalidateQueries();
    },
    onError: (error) => {
      if (hasEnded(error)) onSignedOut();
      else void message.error(error.message);
    },
  });
  return {
    isPending,
    // The message has told what was wrong.
    act: (about: V): Promise<R | undefined> => mutateAsync(about).catch(() => undefined),
  };
}
