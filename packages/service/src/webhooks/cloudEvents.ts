import { createHash } from 'node:crypto';
import { type Delivery, deliveryId, type Hook, type ShapedDelivery } from '@nine-bells/core';

/** A request's body, its type, and the id under which it is signed. */
export interface HookBody {
  readonly id: string;
  readonly contentType: string;
  readonly text: string;
}

/**
 * The body for one event, or for several: CloudEvents 1.0 in structured mode, or a batch.
 *
 * A batch is signed under an id of its own, which stays the same as long as the events in it do.
 */
export function hookBodyOf(hook: Hook, deliveries: readonly ShapedDelivery[], source: string): HookBody {
  const [first] = deliveries as readonly [ShapedDelivery];
  const events = deliveries.map((each) => eventText(each, source));
  if (hook.batch === undefined)
    return {
      id: deliveryId(first.delivery),
      contentType: 'application/cloudevents+json; charset=utf-8',
      text: events[0] as string,
    };
  const ids = deliveries.map(({ delivery }) => delivery.id).join(' ');
  return {
    id: `${hook.name}_${createHash('sha256').update(ids).digest('base64url').slice(0, 26)}`,
    contentType: 'application/cloudevents-batch+json; charset=utf-8',
    text: `[${events.join()}]`,
  };
}

/** One event in structured mode. */
export function eventText({ delivery, dataText }: ShapedDelivery, source: string): string {
  return `${JSON.stringify(attributesOf(delivery, source)).slice(0, -1)},"data":${dataText}}`;
}

function attributesOf({ id, event, atMs, channel }: Delivery, source: string): object {
  return {
    specversion: '1.0',
    id,
    source,
    type: `ninebells.${event}`,
    ...(channel === undefined ? {} : { subject: channel }),
    time: new Date(atMs).toISOString(),
    datacontenttype: 'application/json',
  };
}
