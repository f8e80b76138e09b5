import type { Json } from '@nine-bells/wire';

/** One thing that a condition looks at: a place in the body, a header, or the method of the request. */
type Look = { readonly at: string } | { readonly header: string } | { readonly method: true };

type Scalar = string | number | boolean | null;

/** What is found there is this, one of these, there at all, or text that matches a glob (`*` stands for any text). */
type Test =
  | { readonly is: Scalar }
  | { readonly oneOf: readonly Scalar[] }
  | { readonly exists: boolean }
  | { readonly matches: string };

/** A condition on an event. */
export type Condition =
  | (Look & Test)
  | { readonly all: readonly Condition[] }
  | { readonly any: readonly Condition[] }
  | { readonly not: Condition };

/**
 * JSON in which a text that begins with `/` is a JSON Pointer (RFC 6901) into the body. `{ from, or }` is a pointer with a
 * default, `{ header, or }` a header, and `{ literal }` any JSON as it stands.
 */
export type Template = Json;

/** What conditions and templates look at. */
export interface ShapeSource {
  readonly body: Json;
  readonly headers: Readonly<Record<string, string>>;
  readonly method: string;
}
