import type { Json } from '@nine-bells/wire';
import type { Delivery, Hook, ShapedDelivery } from '../model/hook.js';
import { filled, without } from '../rules/shape.js';

/**
 * Shapes the data of a delivery as its hook says.
 *
 * @throws {ShapeError} if the template asks for what is not there
 */
export function shapedDelivery({ drop, data }: Pick<Hook, 'drop' | 'data'>, delivery: Delivery): ShapedDelivery {
  if (drop === undefined && data === undefined) return { delivery, dataText: delivery.dataText };
  const given = without(JSON.parse(delivery.dataText) as Json, drop ?? []);
  const shaped = data === undefined ? given : filled(data, { body: given, headers: {}, method: 'POST' });
  return { delivery, dataText: JSON.stringify(shaped) };
}
