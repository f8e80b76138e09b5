// Builds the native writer against the headers that lie beside this very Node.js. Where there are none, or no compiler, the
// service writes through Node's streams instead: so nothing that goes wrong here is an error, and nothing is downloaded.
import { spawnSync } from 'node:child_process';
import { existsSync } from 'node:fs';
import { dirname, join } from 'node:path';

const folder = import.meta.dirname;
const prefix = process.env.npm_config_nodedir ?? dirname(dirname(process.execPath));

function build() {
  if (process.platform !== 'linux' && process.platform !== 'darwin') return `it is not for ${process.platform}`;
  if (!existsSync(join(prefix, 'include/node/node_api.h'))) return `there are no headers of Node.js in ${prefix}`;
  const { status, error, stderr } = spawnSync('node-gyp', ['rebuild', '--silent'], {
    cwd: folder,
    env: { ...process.env, npm_config_nodedir: prefix },
    encoding: 'utf8',
  });
  if (error !== undefined) return error.message;
  return status === 0 ? undefined : stderr.trim().split('\n').slice(-3).join('\n');
}

const why = build();
if (why !== undefined)
  console.log(`The native writer was not built; the service writes through streams instead: ${why}`);
