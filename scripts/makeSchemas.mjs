// Makes JSON Schemas of the types of the wire, for the service's descriptions of itself: a step of the build.
import { mkdirSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { createGenerator } from 'ts-json-schema-generator';

const folder = join(dirname(dirname(fileURLToPath(import.meta.url))), 'packages/wire');
const generator = createGenerator({
  path: join(folder, 'src/http/index.ts'),
  tsconfig: join(folder, 'tsconfig.json'),
  type: 'LineFrames',
  encodeRefs: false,
  skipTypeCheck: true,
  additionalProperties: false,
});
const schemas = {};
for (const name of ['HttpInterface', 'LineFrames', 'SentRequests'])
  Object.assign(schemas, generator.createSchema(name).definitions);
mkdirSync(join(folder, 'dist'), { recursive: true });
const text = JSON.stringify(schemas, null, 1);
writeFileSync(join(folder, 'dist/schemas.js'), `export const schemas = ${text};\n`);
writeFileSync(
  join(folder, 'dist/schemas.d.ts'),
  '/** JSON Schemas of all types of the wire, by name; made by the build. */\nexport declare const schemas: Readonly<Record<string, object>>;\n',
);
