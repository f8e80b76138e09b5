import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { text } from 'node:stream/consumers';
import { Webhook } from 'standardwebhooks';

/** Who sits at the desk this hour, and where. */
const onDuty: Readonly<Record<string, string>> = { oona: 'desk A', felix: 'desk B' };

/** The part of the regatta's application that is asked who may edit results. */
export interface ResultsOffice {
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
  const server = createServer(async (request, response) => {
    const say = (status: number, answer: object): void => {
      response.writeHead(status, { 'content-type': 'application/json' }).end(JSON.stringify(answer));
    };
    try {
      // A caller without the secret cannot ask.
      const headers = request.headers as Record<string, string>;
      const { data } = webhook.verify(await text(request), headers) as { data: { user: string; guest: boolean } };
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
    url: `http://127.0.0.1:${(server.address() as AddressInfo).port}/may-sit-at-the-desk`,
    stop: () => new Promise((resolve) => server.close(() => resolve()).closeAllConnections()),
  };
}
