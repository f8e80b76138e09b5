import { Backend } from '@nine-bells/client/backend';
import { QueryClientProvider } from '@tanstack/react-query';
import { App, ConfigProvider, Spin } from 'antd';
import { lazy, type ReactNode, Suspense, useEffect, useMemo, useState } from 'react';
import { Navigate, Route, Routes, useLocation } from 'react-router-dom';
import { queries, whenSignedOut } from './queries.js';
import { SignIn } from './SignIn.js';
import { mayDo, useSession } from './session.js';
import { ErrorBoundary } from './Trouble.js';
import { texts } from './texts.js';
import { type Light, themeFor } from './theme.js';

// Each page is loaded when it is first shown; the sign-in page needs none of them.
const Frame = lazy(async () => ({ default: (await import('./Frame.js')).Frame }));
const AccessPage = lazy(async () => ({ default: (await import('./AccessPage.js')).AccessPage }));
const ChannelPage = lazy(async () => ({ default: (await import('./ChannelPage.js')).ChannelPage }));
const InstancesPage = lazy(async () => ({ default: (await import('./InstancesPage.js')).InstancesPage }));
const KeysPage = lazy(async () => ({ default: (await import('./KeysPage.js')).KeysPage }));
const ModerationPage = lazy(async () => ({ default: (await import('./ModerationPage.js')).ModerationPage }));
const OverviewPage = lazy(async () => ({ default: (await import('./OverviewPage.js')).OverviewPage }));
const RulesPage = lazy(async () => ({ default: (await import('./rules/RulesPage.js')).RulesPage }));
const SearchPage = lazy(async () => ({ default: (await import('./SearchPage.js')).SearchPage }));
const SessionsPage = lazy(async () => ({ default: (await import('./SessionsPage.js')).SessionsPage }));
const TrafficPage = lazy(async () => ({ default: (await import('./TrafficPage.js')).TrafficPage }));
const WebhooksPage = lazy(async () => ({ default: (await import('./WebhooksPage.js')).WebhooksPage }));
const WorkbenchPage = lazy(async () => ({ default: (await import('./WorkbenchPage.js')).WorkbenchPage }));
const TracePage = lazy(async () => ({ default: (await import('./TracePage.js')).TracePage }));

/** Everything: the look, the sign-in, the pages. */
export function Console() {
  const [light, setLight] = useLight();
  const { session, signIn, signOut, ended } = useSession();
  useEffect(() => whenSignedOut(() => ended(texts.signedOut)), [ended]);
  const backend = useMemo(() => new Backend(location.origin), []);
  return (
    <ConfigProvider theme={themeFor(light)}>
      <App>
        <QueryClientProvider client={queries}>
          <Suspense fallback={<Spin fullscreen />}>
            {session.name === 'looking' && <Spin fullscreen />}
            {session.name === 'signed-out' && <SignIn why={session.why} onSignIn={signIn} />}
            {session.name === 'signed-in' && (
              <Frame backend={backend} session={session} light={light} onLight={setLight} onSignOut={signOut}>
                {(overview) => (
                  <PageBoundary>
                    <Suspense fallback={<Spin className="loading" />}>
                      <Routes>
                        <Route
                          path="/"
                          element={<OverviewPage backend={backend} overview={overview} light={light} />}
                        />
                        <Route
                          path="/sessions"
                          element={<SessionsPage backend={backend} mayAct={mayDo(session.rights, 'moderate')} />}
                        />
                        <Route
                          path="/rules/*"
                          element={<RulesPage backend={backend} mayPublish={mayDo(session.rights, 'publish')} />}
                        />
                        <Route path="/search" element={<SearchPage backend={backend} />} />
                        <Route path="/traffic" element={<TrafficPage backend={backend} light={light} />} />
                        <Route
                          path="/webhooks"
                          element={<WebhooksPage backend={backend} mayAct={mayDo(session.rights, 'hooks')} />}
                        />
                        <Route path="/instances" element={<InstancesPage backend={backend} />} />
                        <Route path="/traces/:id?" element={<TracePage backend={backend} />} />
                        <Route path="/access" element={<AccessPage backend={backend} />} />
                        <Route
                          path="/people"
                          element={<ModerationPage backend={backend} mayAct={mayDo(session.rights, 'moderate')} />}
                        />
                        {mayDo(session.rights, 'administer') && (
                          <Route path="/keys" element={<KeysPage backend={backend} />} />
                        )}
                        {mayDo(session.rights, 'administer') && (
                          <Route path="/workbench" element={<WorkbenchPage backend={backend} />} />
                        )}
                        <Route
                          path="/channels/*"
                          element={<ChannelPage backend={backend} mayPublish={mayDo(session.rights, 'publish')} />}
                        />
                        <Route path="*" element={<Navigate to="/" replace />} />
                      </Routes>
                    </Suspense>
                  </PageBoundary>
                )}
              </Frame>
            )}
          </Suspense>
        </QueryClientProvider>
      </App>
    </ConfigProvider>
  );
}

/** A page that failed is tried again when you go to another. */
function PageBoundary({ children }: { readonly children: ReactNode }) {
  const { pathname } = useLocation();
  return <ErrorBoundary key={pathname}>{children}</ErrorBoundary>;
}

/** Light or dark: as chosen before, else as the system says. */
function useLight(): [Light, (light: Light) => void] {
  const [light, setLight] = useState<Light>(() => {
    const chosen = localStorage.getItem('bells-light');
    if (chosen === 'light' || chosen === 'dark') return chosen;
    return matchMedia('(prefers-color-scheme: dark)').matches ? 'dark' : 'light';
  });
  useEffect(() => {
    document.documentElement.dataset.light = light;
  }, [light]);
  const choose = (next: Light): void => {
    localStorage.setItem('bells-light', next);
    setLight(next);
  };
  return [light, choose];
}
