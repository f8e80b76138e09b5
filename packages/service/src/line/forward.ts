import { request as httpRequest, type IncomingMessage, type OutgoingHttpHeaders } from 'node:http';
import { request as httpsRequest } from 'node:https';
import { pipeline } from 'node:stream';
import { refusal } from '@nine-bells/wire';
import type { Request, Response } from 'express';

/** Says that a request was passed on already: it is not passed on again. */
const passedOn = 'x-nine-bells-passed-on';

/** Headers of one connection, which are not passed on (RFC 9110, section 7.6.1). */
const ofOneConnection = ['connection', 'keep-alive', 'transfer-encoding', 'upgrade', 'te', 'trailer', 'content-length'];

export function wasPassedOn(request: Request): boolean {
  return request.headers[passedOn] !== undefined;
}

/** Passes a request on to another instance, and its answer back, as it comes. */
export function passOn(request: Request, response: Response, address: string): Promise<void> {
  const body = request.body === undefined ? undefined : Buffer.from(JSON.stringify(request.body));
  const url = new URL(request.originalUrl, address);
  const from = request.headers['x-forwarded-for'];
  const headers: OutgoingHttpHeaders = {
    ...without(request.headers),
    host: url.host,
    [passedOn]: '1',
    'x-forwarded-for': [from, request.socket.remoteAddress].flat().filter(Boolean).join(', '),
    ...(body === undefined ? {} : { 'content-length': body.length }),
  };
  return new Promise((resolve, reject) => {
    const ask = url.protocol === 'https:' ? httpsRequest : httpRequest;
    const outgoing = ask(url, { method: request.method, headers }, (answer: IncomingMessage) => {
      response.writeHead(answer.statusCode ?? 502, without(answer.headers)).flushHeaders();
      // Piece by piece as it comes, and no faster than the client reads: else all that it does not read would wait here.
      pipeline(answer, response, () => resolve());
    });
    response.on('close', () => {
      outgoing.destroy();
      resolve();
    });
    outgoing.on('error', () => {
      if (response.headersSent) response.destroy();
      else
        reject(refusal('unavailable', 'the instance that has the session cannot be reached', { retryAfterMs: 1_000 }));
    });
    outgoing.end(body);
  });
}

function without(headers: IncomingMessage['headers']): OutgoingHttpHeaders {
  return Object.fromEntries(Object.entries(headers).filter(([name]) => !ofOneConnection.includes(name)));
}
