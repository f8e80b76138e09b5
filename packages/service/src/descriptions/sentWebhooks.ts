import { schemas } from '@nine-bells/wire/schemas';
import type { Components, Tree } from './components.js';

interface Sent {
  readonly description: string;
  readonly properties: { readonly data: Tree; readonly answer?: Tree };
}

/** Describes the service's outgoing requests as `webhooks` of OpenAPI 3.1: questions to the application and hook events. */
export function sentWebhooks(components: Components): Tree {
  const sent = (schemas.SentRequests as { properties: Readonly<Record<string, Sent>> }).properties;
  return Object.fromEntries(
    Object.entries(sent).map(([type, { description, properties }]) => {
      const { data, answer } = properties;
      const isEvent = answer === undefined;
      const schema = isEvent ? eventOf(type, components.part(data)) : questionOf(type, components.part(data));
      const content = { [isEvent ? 'application/cloudevents+json' : 'application/json']: { schema } };
      const ok = isEvent
        ? { description: 'Any status of 200 to 299: the event was handled.' }
        : { description: 'The answer.', content: { 'application/json': { schema: components.part(answer) } } };
      const operation = {
        summary: description.replace(/\.$/, ''),
        tags: [isEvent ? 'Hooks' : 'Application'],
        description: `${description} Signed as Standard Webhooks says.`,
        requestBody: { required: true, content },
        responses: { 200: ok },
      };
      return [type, { post: operation }];
    }),
  );
}

/** A CloudEvent 1.0 in structured mode. */
function eventOf(type: string, data: Tree): Tree {
  const text = { type: 'string' };
  return {
    type: 'object',
    required: ['specversion', 'id', 'source', 'type', 'time', 'data'],
    properties: {
      specversion: { const: '1.0' },
      id: text,
      source: text,
      type: { const: type },
      subject: { ...text, description: 'The channel, where the event has one.' },
      time: text,
      datacontenttype: { const: 'application/json' },
      data,
    },
  };
}

function questionOf(type: string, data: Tree): Tree {
  return {
    type: 'object',
    required: ['type', 'timestamp', 'data'],
    properties: { type: { const: type }, timestamp: { type: 'string' }, data },
  };
}
