import type { ForwardedRequest } from '@nine-bells/client/backend';
import type { Command } from 'commander';
import colors from 'picocolors';
import { CommandError, exitCodes } from './exitCodes.js';
import { backendOf, type CallOptions, calling, wholeFrom } from './options.js';
import { clockTime, note, print, printable, printJson } from './output.js';

/** Timeout of a local receiver, and retry interval after a failure of the service, in milliseconds. */
const withinMs = 30_000;
const againMs = 2_000;

interface ForwardOptions extends CallOptions {
  readonly count?: number;
}

/** Answer of a local receiver. */
interface Answered {
  readonly status?: number;
  readonly tookMs: number;
  readonly answer?: string;
}

/** `ninebells forward`: copies of what passes an intake, goes to a hook or is called, sent to a receiver on this machine. */
export function addForward(program: Command): void {
  calling(
    program
      .command('forward')
      .description("send copies of an intake's arrivals, a hook's deliveries or calls to a receiver on this machine")
      .argument('<name>', 'an intake, a hook, a feed or a call')
      .argument('<receiver>', 'where to send it, such as http://127.0.0.1:3000/hook')
      .option('--count <n>', 'end after so many', wholeFrom(1, 1_000_000)),
  ).action((name: string, receiver: string, options: ForwardOptions) => forward(name, receiver, options));
}

async function forward(name: string, receiver: string, options: ForwardOptions): Promise<void> {
  if (!/^https?:/.test(receiver) || !URL.canParse(receiver))
    throw new CommandError(exitCodes.usage, `${receiver} is no URL`, 'such as http://127.0.0.1:3000/hook');
  const backend = backendOf(options);
  let { after } = await backend.forwarded(name, { waitS: 0 });
  let last: ForwardedRequest | undefined;
  const pass = async (request: ForwardedRequest): Promise<void> => {
    last = request;
    const answered = await send(receiver, request);
    show(request, answered, options.json === true);
    await backend.reportForwarded(name, { id: request.id, ...answered }).catch(() => {});
  };
  note(
    `What passes ${name} from now on is sent to ${receiver}. ${process.stdin.isTTY ? 'r: the last one again. ' : ''}Ctrl-C ends.`,
  );
  onKey('r', () => last && void pass(last));
  let left = options.count ?? Number.POSITIVE_INFINITY;
  while (left > 0) {
    const found = await backend
      .forwarded(name, { after, waitS: 5 })
      .catch(async (error: Error & { status?: number }) => {
        if (error.status !== undefined && error.status < 500) throw error;
        note(error.message);
        await new Promise((resolve) => setTimeout(resolve, againMs));
        return { after, requests: [] };
      });
    after = found.after;
    for (const request of found.requests) {
      await pass(request);
      left -= 1;
      if (left <= 0) break;
    }
  }
  process.stdin.pause();
}

async function send(receiver: string, { method, headers, body, isBase64 }: ForwardedRequest): Promise<Answered> {
  const fromMs = performance.now();
  const took = (): number => Math.round(performance.now() - fromMs);
  try {
    const response = await fetch(receiver, {
      method,
      headers,
      body: isBase64 ? Buffer.from(body, 'base64') : body,
      redirect: 'manual',
      signal: AbortSignal.timeout(withinMs),
    });
    const answer = (await response.text()).slice(0, 4_096);
    return { status: response.status, tookMs: took(), ...(answer === '' ? {} : { answer }) };
  } catch {
    return { tookMs: took() };
  }
}

function show({ id, what }: ForwardedRequest, { status, tookMs }: Answered, isJson: boolean): void {
  if (isJson) {
    printJson({ id, what, status, tookMs });
    return;
  }
  const says =
    status === undefined ? colors.red('no answer') : (status < 300 ? colors.green : colors.red)(String(status));
  print(`${colors.dim(clockTime(new Date().toISOString()))} ${printable(what)} ${colors.dim(id)} ${says} ${tookMs} ms`);
}

/** Acts on a key that is pressed, where there is a keyboard. */
function onKey(key: string, act: () => void): void {
  const { stdin } = process;
  if (!stdin.isTTY) return;
  stdin.setRawMode(true).resume();
  stdin.on('data', (typed) => {
    const text = typed.toString();
    if (text === key) act();
    // In raw mode the terminal does not make a signal of Ctrl-C.
    if (text === '\u0003') process.exit(exitCodes.done);
  });
}
