import { useCallback, useEffect, useState } from 'react';

/** Whether the browser is signed in to the console. */
export type ConsoleSession =
  | { readonly name: 'looking' }
  | { readonly name: 'signed-out'; readonly why?: string }
  | { readonly name: 'signed-in'; readonly key: string; readonly rights: readonly string[] };

/** Whether one signed in with a key that may do something beyond looking. */
export function mayDo(rights: readonly string[], right: 'publish' | 'moderate' | 'hooks' | 'administer'): boolean {
  return rights.some((each) => each === 'administer' || each === right || each.startsWith(`${right}:`));
}

interface Answer {
  readonly name?: string;
  readonly rights?: readonly string[];
  readonly title?: string;
  readonly detail?: string;
}

async function ask(
  method: 'GET' | 'POST' | 'DELETE',
  body?: object,
): Promise<{ ok: boolean; status: number } & Answer> {
  const response = await fetch('/console/session', {
    method,
    ...(body === undefined ? {} : { body: JSON.stringify(body), headers: { 'content-type': 'application/json' } }),
  });
  const answer = response.status === 204 ? {} : ((await response.json().catch(() => ({}))) as Answer);
  return { ok: response.ok, status: response.status, ...answer };
}

/** Takes the code out of a sign-in link, so that it stays neither in the address nor in the history. */
function takeCode(): string | undefined {
  const code = /^#sign-in=([\w.-]+)$/.exec(location.hash)?.[1];
  if (code !== undefined) history.replaceState(null, '', location.pathname + location.search);
  return code;
}

let linkCode = takeCode();

/** The console's session: from a sign-in link, an earlier cookie, or a key typed in. */
export function useSession(): {
  session: ConsoleSession;
  signIn: (key: string) => Promise<void>;
  signOut: () => Promise<void>;
  /** The service no longer takes the session. */
  ended: (why: string) => void;
} {
  const [session, setSession] = useState<ConsoleSession>({ name: 'looking' });

  const begin = useCallback(async (credentials: object | undefined) => {
    try {
      const answer = credentials === undefined ? await ask('GET') : await ask('POST', credentials);
      if (answer.ok) setSession({ name: 'signed-in', key: answer.name ?? '', rights: answer.rights ?? [] });
      else
        setSession({
          name: 'signed-out',
          ...(credentials === undefined ? {} : { why: answer.detail ?? answer.title ?? `status ${answer.status}` }),
        });
    } catch (error) {
      setSession({ name: 'signed-out', why: `the service cannot be reached: ${(error as Error).message}` });
    }
  }, []);

  useEffect(() => {
    const code = linkCode;
    linkCode = undefined;
    void begin(code === undefined ? undefined : { code });
    // A link pasted into a tab that shows the console already changes the fragment only.
    const onHash = (): void => {
      const pasted = takeCode();
      if (pasted !== undefined) void begin({ code: pasted });
    };
    window.addEventListener('hashchange', onHash);
    return () => window.removeEventListener('hashchange', onHash);
  }, [begin]);

  const ended = useCallback(
    (why: string) => setSession((now) => (now.name === 'signed-in' ? { name: 'signed-out', why } : now)),
    [],
  );

  return {
    session,
    ended,
    signIn: (key) => begin({ key }),
    signOut: async () => {
      await ask('DELETE');
      setSession({ name: 'signed-out' });
    },
  };
}
