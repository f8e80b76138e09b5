import { LogoutOutlined, MoonOutlined, SunOutlined } from '@ant-design/icons';
import type { Backend } from '@nine-bells/client/backend';
import { Alert, Button, Tooltip } from 'antd';
import type { ReactNode } from 'react';
import { Link, NavLink } from 'react-router-dom';
import bell from './bell.svg';
import { type ConsoleSession, mayDo } from './session.js';
import { texts } from './texts.js';
import type { Light } from './theme.js';
import { type LiveOverview, useOverview } from './useOverview.js';

export interface FrameProps {
  readonly backend: Backend;
  readonly session: Extract<ConsoleSession, { name: 'signed-in' }>;
  readonly light: Light;
  readonly onLight: (light: Light) => void;
  readonly onSignOut: () => Promise<void>;
  readonly children: (overview: LiveOverview) => ReactNode;
}

/** What stands around every page. */
export function Frame({ backend, session, light, onLight, onSignOut, children }: FrameProps) {
  const overview = useOverview(backend);
  const { latest, trouble } = overview;
  return (
    <div className="frame">
      <header className="masthead">
        <Link to="/" className="mark">
          <img src={bell} alt="" width={30} />
          <span>Nine Bells</span>
        </Link>
        <span className="service-name">{latest?.name}</span>
        <nav>
          <NavLink to="/" end>
            {texts.overview}
          </NavLink>
          <NavLink to="/search">{texts.search}</NavLink>
          <NavLink to="/traffic">{texts.traffic}</NavLink>
          <NavLink to="/rules">{texts.rules}</NavLink>
          <NavLink to="/sessions">{texts.sessions}</NavLink>
          <NavLink to="/instances">{texts.instances}</NavLink>
          <NavLink to="/webhooks">{texts.webhooks}</NavLink>
          <NavLink to="/traces">{texts.trace}</NavLink>
          <NavLink to="/access">{texts.access}</NavLink>
          <NavLink to="/people">{texts.people}</NavLink>
          {mayDo(session.rights, 'administer') && <NavLink to="/keys">{texts.keys}</NavLink>}
          {mayDo(session.rights, 'administer') && <NavLink to="/workbench">{texts.workbench}</NavLink>}
        </nav>
        <span className="faint instance">
          {latest !== undefined &&
            `${latest.instances > 1 ? `${latest.instances} instances` : `instance ${latest.instance}`}, version ${latest.version}`}
          {`, key ${session.key}`}
          {session.rights.every((right) => right === 'read') && ', looking only'}
        </span>
        <Tooltip title={light === 'dark' ? 'Light' : 'Dark'}>
          <Button
            type="text"
            aria-label={light === 'dark' ? 'Light' : 'Dark'}
            icon={light === 'dark' ? <SunOutlined /> : <MoonOutlined />}
            onClick={() => onLight(light === 'dark' ? 'light' : 'dark')}
          />
        </Tooltip>
        <Tooltip title="Sign out">
          <Button type="text" aria-label="Sign out" icon={<LogoutOutlined />} onClick={() => void onSignOut()} />
        </Tooltip>
      </header>
      {trouble !== undefined && <Alert banner type="error" title={trouble} />}
      {children(overview)}
    </div>
  );
}
