import { Backend } from '@nine-bells/client/backend';
import { App, ConfigProvider, Spin } from 'antd';
import { useEffect, useMemo, useState } from 'react';
import { Navigate, Route, Routes } from 'react-router-dom';
import { AccessPage } from './AccessPage.js';
import { ChannelPage } from './ChannelPage.js';
import { Frame } from './Frame.js';
import { InstancesPage } from './InstancesPage.js';
import { KeysPage } from './KeysPage.js';
import { ModerationPage } from './ModerationPage.js';
import { OverviewPage } from './OverviewPage.js';
import { SessionsPage } from './SessionsPage.js';
import { SignIn } from './SignIn.js';
import { mayDo, useSession } from './session.js';
import { TracePage } from './TracePage.js';
import { type Light, themeFor } from './theme.js';

/** Everything: the look, the sign-in, the pages. */
export function Console() {
  const [light, setLight] = useLight();
  const { session, signIn, signOut } = useSession();
  const backend = useMemo(() => new Backend(location.origin), []);
  return (
    <ConfigProvider theme={themeFor(light)}>
      <App>
        {session.name === 'looking' && <Spin fullscreen />}
        {session.name === 'signed-out' && <SignIn why={session.why} onSignIn={signIn} />}
        {session.name === 'signed-in' && (
          <Frame backend={backend} session={session} light={light} onLight={setLight} onSignOut={signOut}>
            {(overview) => (
              <Routes>
                <Route path="/" element={<OverviewPage backend={backend} overview={overview} light={light} />} />
                <Route
                  path="/sessions"
                  element={<SessionsPage backend={backend} mayAct={mayDo(session.rights, 'moderate')} />}
                />
                <Route path="/instances" element={<InstancesPage backend={backend} />} />
                <Route path="/traces/:id?" element={<TracePage backend={backend} />} />
                <Route path="/access" element={<AccessPage backend={backend} />} />
                <Route
                  path="/people"
                  element={<ModerationPage backend={backend} mayAct={mayDo(session.rights, 'moderate')} />}
                />
                {mayDo(session.rights, 'administer') && <Route path="/keys" element={<KeysPage backend={backend} />} />}
                <Route
                  path="/channels/*"
                  element={<ChannelPage backend={backend} mayPublish={mayDo(session.rights, 'publish')} />}
                />
                <Route path="*" element={<Navigate to="/" replace />} />
              </Routes>
            )}
          </Frame>
        )}
      </App>
    </ConfigProvider>
  );
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
