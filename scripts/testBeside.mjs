// `npm run test-beside`: checks that the suites pass beside other programs of this project. Starts the demo on its usual port,
// then two test runs of this checkout at once, and expects all three to be well in the end.
import { spawn } from 'node:child_process';
import { root, setUp } from './setUp.mjs';

await setUp({ browser: true, engines: true });
const demo = start('demo', ['scripts/demo.mjs']);
const address = await new Promise((resolve, reject) => {
  demo.child.once('exit', () => reject(new Error(`The demo did not start:\n${demo.output()}`)));
  demo.child.stdout.on('data', () => {
    const url = /is on, at (\S+)/.exec(demo.output())?.[1];
    if (url !== undefined) resolve(url);
  });
});
console.log(`The demo is on, at ${address}. Two test runs begin.`);
const runs = ['first run', 'second run'].map((name) => start(name, ['scripts/test.mjs', ...process.argv.slice(2)]));
const codes = await Promise.all(runs.map(({ ended }) => ended));
for (const [index, { name, output }] of runs.entries()) {
  const text = output().trimEnd();
  console.log(`\n${name}: ${codes[index] === 0 ? 'passed' : 'FAILED'}`);
  console.log(codes[index] === 0 ? text.split('\n').slice(-14).join('\n') : text);
}
const isWell = await fetch(`${address}/healthz`).then(
  ({ ok }) => ok,
  () => false,
);
console.log(`\nThe demo is ${isWell ? 'still on' : 'NOT on any longer'}.`);
demo.child.kill('SIGTERM');
await demo.ended;
process.exitCode = isWell && codes.every((code) => code === 0) ? 0 : 1;

/** Starts a script, and collects its output. */
function start(name, args) {
  const child = spawn(process.execPath, args, { cwd: root, stdio: ['ignore', 'pipe', 'pipe'] });
  let text = '';
  for (const stream of [child.stdout, child.stderr])
    stream.setEncoding('utf8').on('data', (part) => {
      text += part;
    });
  const ended = new Promise((resolve) => child.once('close', resolve));
  return { name, child, ended, output: () => text };
}
