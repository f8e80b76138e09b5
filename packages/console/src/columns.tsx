import { Link } from 'react-router-dom';
import { dayTime } from './texts.js';

/** Columns of tables about messages. */
export const whenColumn = {
  title: 'When',
  dataIndex: 'at',
  width: '14rem',
  render: (at: string) => dayTime(at),
} as const;

export const channelColumn = {
  title: 'Channel',
  dataIndex: 'channel',
  className: 'unbroken',
  render: (channel: string) => (
    <Link to={`/channels/${channel}`} className="name">
      {channel}
    </Link>
  ),
} as const;
