// Sets the version of all packages, and of their dependencies on each other: `npm run set-version 0.3.0`.
import { existsSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';

const [version = '', root = fileURLToPath(new URL('..', import.meta.url))] = process.argv.slice(2);
if (!/^\d+\.\d+\.\d+(-[0-9A-Za-z.-]+)?$/.test(version)) {
  console.error(`set-version: expected a version such as 0.3.0, found ${JSON.stringify(version)}`);
  process.exit(2);
}

/** Sets the version of a manifest, or of its entry in the lock file, and of its dependencies on our packages. */
function setVersion(manifest) {
  if (manifest.version !== undefined) manifest.version = version;
  for (const kind of ['dependencies', 'devDependencies', 'optionalDependencies', 'peerDependencies'])
    for (const name of Object.keys(manifest[kind] ?? {}))
      if (name.startsWith('@nine-bells/')) manifest[kind][name] = version;
}

function change(path, edit) {
  const file = join(root, path);
  if (!existsSync(file)) return;
  const value = JSON.parse(readFileSync(file, 'utf8'));
  edit(value);
  writeFileSync(file, `${JSON.stringify(value, null, 2)}\n`);
}

const packages = readdirSync(join(root, 'packages')).map((name) => `packages/${name}`);
const folders = ['.', 'demo', 'bench', 'tests', ...packages];
for (const folder of folders) change(join(folder, 'package.json'), setVersion);
change('package-lock.json', (lock) => {
  setVersion(lock);
  for (const [folder, each] of Object.entries(lock.packages)) if (!folder.includes('node_modules')) setVersion(each);
});
for (const folder of packages) {
  const readme = join(root, folder, 'README.md');
  if (!existsSync(readme)) continue;
  writeFileSync(
    readme,
    readFileSync(readme, 'utf8').replaceAll(/nine-bells-\*-\S+\.tgz/g, `nine-bells-*-${version}.tgz`),
  );
}
console.log(`All packages have the version ${version}.`);
