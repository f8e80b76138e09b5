import { protocolLimits } from '@nine-bells/wire';
import { targetConstructorToSchema } from 'class-validator-jsonschema';
import type { Tree } from './components.js';

/** What says more than a type. */
const boundWords = ['minLength', 'maxLength', 'pattern', 'minimum', 'maximum', 'minItems', 'maxItems', 'enum'] as const;

/** Bounds of the members of a body, as the class that checks it has them, by member. */
export function boundsOf(dto: new () => object): Readonly<Record<string, Tree>> {
  const { properties = {} } = targetConstructorToSchema(dto, { additionalConverters });
  return Object.fromEntries(
    Object.entries(properties).map(([name, each]) => [
      name,
      Object.fromEntries(boundWords.flatMap((word) => (word in each ? [[word, (each as Tree)[word]]] : []))),
    ]),
  );
}

type Meta = { readonly constraints?: readonly number[] };

const additionalConverters = {
  isChannel: () => ({ type: 'string' as const, minLength: 1, maxLength: protocolLimits.channelNameChars }),
  isJson: () => ({}),
  isFit: () => ({}),
  isRight: () => ({}),
  isMs: ({ constraints: [minimum = 0, maximum = 0] = [] }: Meta) => ({ type: 'integer' as const, minimum, maximum }),
  isUsers: ({ constraints: [maxItems = 0] = [] }: Meta) => ({ type: 'array' as const, maxItems }),
};
