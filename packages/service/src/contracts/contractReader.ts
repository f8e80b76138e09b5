import type { Contract, ContractsByType, Source } from '@nine-bells/core';
import { defined, messageTypePattern, protocolLimits } from '@nine-bells/wire';
import { type Located, located, mapOf, mapTo, oneOf, optional, type Reader, text } from '@nine-bells/yaml';
import { isMap } from 'yaml';

/** A contract as it is written, before its schema is read. */
export interface WrittenContract {
  readonly about?: string;
  readonly from?: Source;
  /** The schema itself, or the file that has it, with a fragment where it is in a part of it. */
  readonly schema?: Located;
  readonly file?: Located;
  readonly example?: Located;
}

/** A contract whose schema is still to be read: it is put in place of the contract, which has no functions yet. */
export type Unread<T> = T & { readonly written: WrittenContract };

const members = mapOf({
  about: optional(text(200)),
  from: optional(oneOf(['clients', 'applications'] as const)),
  schema: optional(located),
  file: optional(located),
  example: optional(located),
});

/** What data of one kind looks like. */
export const contract: Reader<Unread<Contract>> = (node, at) => {
  if (isMap(node) && node.has('schema') && node.has('file'))
    return at.fault(node, 'expected `schema` or `file`, found both');
  const found = members(node, at);
  if (found === undefined) return undefined;
  const { about, from, schema, file, example } = found;
  return { ...defined({ about, from }), written: defined({ about, from, schema, file, example }) };
};

/** Contracts by the type of a message. */
export const contractsByType: Reader<ContractsByType> = mapTo(contract, (name) => {
  if (!messageTypePattern.test(name) || name.length > protocolLimits.typeChars)
    throw new RangeError('expected the type of a message, such as finish: letters, digits and . _ / -');
});
