import type { Json } from '../json.js';

/** A message to publish, as it is typed in elsewhere. */
export interface Snippet {
  readonly label: 'curl' | 'SDK' | 'Backend' | 'command';
  readonly text: string;
}

/** How to publish a message from elsewhere. No key stands in it. */
export function snippetsOf(url: string, channel: string, type: string, data: Json): readonly Snippet[] {
  const body = JSON.stringify({ channel, ...(type === 'message' ? {} : { type }), data });
  const json = JSON.stringify(data);
  const options = type === 'message' ? '' : `, { type: ${JSON.stringify(type)} }`;
  return [
    {
      label: 'curl',
      text: `curl ${url}/v1/messages -H "Authorization: Bearer $NINEBELLS_KEY" \\\n  -H 'Content-Type: application/json' -d ${inShell(body)}`,
    },
    { label: 'SDK', text: `await line.publish(${JSON.stringify(channel)}, ${json}${options});` },
    { label: 'Backend', text: `await bells.publish(${body});` },
    {
      label: 'command',
      text: `npx ninebells publish ${channel} ${inShell(json)}${type === 'message' ? '' : ` --type ${type}`}`,
    },
  ];
}

function inShell(text: string): string {
  return `'${text.replaceAll("'", "'\\''")}'`;
}
