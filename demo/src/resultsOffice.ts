import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { text } from 'node:stream/consumers';
import { Webhook } from 'standardwebhooks';

/** The stewards on duty this hour, with their seats. */
const onDuty: Readonly<Record<string, string>> = { oona: 'desk A', felix: 'desk B' };

/** The service's description of the user. */
interface Asked {
  readonly user: string;
  readonly name?: string;
  readonly guest: boolean;
  readonly claims: { readonly boats?: string };
  readonly channel?: string;
  readonly key?: string;
  readonly data: { readonly reason?: string } | null;
}

/** A skipper owns up to a foul and takes a penalty turn. The turn gets a number, which is published. */
function turnAnswer({ channel, claims, name, user, key = '', data }: Asked, turns: Map<string, number>): object {
  const boat = claims.boats;
  if (boat === undefined) return { refuse: { code: 'no-boat', text: `${name ?? user} sails no boat in this race` } };
  const number = turns.get(key) ?? turns.size + 1;
  turns.set(key, number);
  const because = data?.reason === undefined ? '' : `, ${data.reason}`;
  const text = `Penalty turn ${number}: ${boat}${because}`;
  return {
    data: { number },
    publish: [{ message: { channel, type: 'penalty-turn', data: { number, boat, text } } }],
  };
}

/** A message before it is published. */
interface Reviewed {
  readonly message: { readonly data: { readonly text?: string } | null };
}

/** Holds messages with links. */
function reviewAnswer({ message }: Reviewed): object {
  const isLink = /\bhttps?:|\bwww\./i.test(message.data?.text ?? '');
  return isLink ? { hold: true, reason: 'links wait for the committee' } : { allow: true };
}

/** The part of the regatta's application that answers access questions, reviews chat messages and numbers penalty turns. */
export interface ResultsOffice {
  /** URL of the office, without a path. */
  readonly url: string;
  stop(): Promise<void>;
}

/**
 * Starts the results office: a stand-in for an application that decides what stands in no token.
 *
 * @param secret - the one with which the service signs its questions
 * @param port - 0 for any free one
 */
export async function startResultsOffice(secret: string, port: number): Promise<ResultsOffice> {
  const webhook = new Webhook(secret);
  /** Penalty turns that were declared, by the client's key: one that comes again is the same one. */
  const turns = new Map<string, number>();
  const server = createServer(async (request, response) => {
    const say = (status: number, answer: object): void => {
      response.writeHead(status, { 'content-type': 'application/json' }).end(JSON.stringify(answer));
    };
    try {
      // A caller without the secret cannot ask.
      const headers = request.headers as Record<string, string>;
      const { data } = webhook.verify(await text(request), headers) as { data: Asked & Reviewed };
      if (request.url === '/declare-turn') {
        say(200, turnAnswer(data, turns));
        return;
      }
      if (request.url === '/look-at-chat') {
        say(200, reviewAnswer(data));
        return;
      }
      const seat = data.guest ? undefined : onDuty[data.user];
      say(
        200,
        seat === undefined
          ? { allow: false, reason: 'only the stewards on duty may sit at the desk' }
          : { allow: true, member: { seat }, rememberMs: 30_000 },
      );
    } catch {
      say(401, { detail: 'the signature is not that of the service' });
    }
  });
  await new Promise<void>((resolve, reject) => {
    server.once('error', reject);
    server.listen(port, '127.0.0.1', resolve);
  });
  return {
    url: `http://127.0.0.1:${(server.address() as AddressInfo).port}`,
    stop: () => new Promise((resolve) => server.close(() => resolve()).closeAllConnections()),
  };
}
