import { readFileSync, realpathSync, statSync } from 'node:fs';
import { dirname, relative, resolve, sep } from 'node:path';
import { valueAt } from '@nine-bells/core';
import type { Json } from '@nine-bells/wire';
import { type Fault, type Located, located, readYaml } from '@nine-bells/yaml';
import { innerSchemas, isObject } from './keywords.js';

/** Largest file of schemas, in bytes. */
const maxFileBytes = 1_048_576;
/** Most parts of files that one schema is made of. */
const maxParts = 500;

/** Where a schema is written: in the configuration, or in a file. */
export interface SchemaPlace {
  /** Absolute path of the file that it is in. */
  readonly file: string;
  readonly document: Located;
}

/** A schema that is complete in itself, and where its parts were written. */
export interface Bundle {
  readonly schema: Json;
  /** A mistake at a JSON Pointer into the complete schema, at the place where it is written. */
  faultAt(pointer: string, detail: string): Fault;
}

/** Reads files of schemas, each once; none outside the configuration's folder. */
export class SchemaFiles {
  readonly #folder: string;
  readonly #documents = new Map<string, Located | { readonly faults: readonly Fault[] }>();

  constructor(folder: string) {
    this.#folder = folder;
  }

  /**
   * The document in a file.
   *
   * @returns a text that says why it cannot be read, or the faults in it
   */
  read(path: string): Located | string | { readonly faults: readonly Fault[] } {
    let file: string;
    let folder: string;
    try {
      // Links are followed before it is looked where they lead.
      folder = realpathSync(this.#folder);
      file = realpathSync(path);
    } catch {
      return `there is no file ${relative(this.#folder, path)}`;
    }
    if (!file.startsWith(folder + sep)) return `${relative(this.#folder, path)} is outside the configuration's folder`;
    const known = this.#documents.get(file);
    if (known !== undefined) return known;
    const stat = statSync(file);
    if (!stat.isFile()) return `${relative(this.#folder, path)} is no file`;
    if (stat.size > maxFileBytes) return `${relative(this.#folder, path)} has more than ${maxFileBytes} bytes`;
    const { value, faults } = readYaml(readFileSync(file, 'utf8'), file, located);
    const found = value ?? { faults };
    this.#documents.set(file, found);
    return found;
  }
}

/** A part of a document among those that a schema is made of, and its place in the complete schema. */
interface Part extends SchemaPlace {
  /** A JSON Pointer from the document to it. */
  readonly from: string;
  /** From the complete schema to it; `''`: it is the schema itself. */
  readonly at: string;
}

/**
 * Makes a schema complete: what it refers to in files, by paths relative to its own file, becomes a definition of it.
 *
 * @returns the schema, or the faults found: references that lead nowhere, outside, or into the network
 */
export function bundle(root: SchemaPlace, files: SchemaFiles): Bundle | { readonly faults: readonly Fault[] } {
  const faults: Fault[] = [];
  const parts = new Parts(root, files, faults);
  const bodies: Json[] = [];
  // Grows while parts are found that others refer to.
  for (const part of parts.all) bodies.push(rewritten(valueAt(part.document.value, part.from) ?? true, part, ''));

  function rewritten(value: Json, part: Part, pointer: string): Json {
    if (!isObject(value)) return value;
    const schema = { ...value } as Record<string, Json>;
    delete schema.$id;
    for (const { pointer: inner, schema: each } of innerSchemas(schema))
      if (isObject(each)) setAt(schema, inner, rewritten(each as Json, part, pointer + inner));
    if (schema.$ref === undefined) return schema;
    const target = parts.target(schema.$ref, part);
    if (typeof target === 'string') schema.$ref = target;
    else faults.push(part.document.faultAt(`${part.from}${pointer}/$ref`, target.fault));
    return schema;
  }

  if (faults.length > 0) return { faults };
  const [body = true, ...others] = bodies;
  const definitions = Object.fromEntries(others.map((each, index) => [parts.nameOf(index + 1), each]));
  const schema =
    others.length === 0 || !isObject(body)
      ? body
      : { ...(body as Record<string, Json>), $defs: { ...(body.$defs as Record<string, Json>), ...definitions } };
  return {
    schema,
    faultAt: (pointer, detail) => {
      const { document, from, at } = parts.partAt(pointer);
      return document.faultAt(from + pointer.slice(at.length), detail);
    },
  };
}

/** The parts of documents that a schema is made of. */
class Parts {
  readonly all: Part[];
  readonly #files: SchemaFiles;
  readonly #faults: Fault[];
  readonly #names: Set<string>;

  constructor(root: SchemaPlace, files: SchemaFiles, faults: Fault[]) {
    const { value } = root.document;
    this.all = [{ ...root, from: '', at: '' }];
    this.#files = files;
    this.#faults = faults;
    this.#names = new Set(isObject(value) && isObject(value.$defs) ? Object.keys(value.$defs) : []);
  }

  nameOf(index: number): string {
    return (this.all[index] as Part).at.slice('/$defs/'.length);
  }

  /** The part in which a place of the complete schema is. */
  partAt(pointer: string): Part {
    const [first, ...others] = this.all;
    return others.find(({ at }) => pointer === at || pointer.startsWith(`${at}/`)) ?? (first as Part);
  }

  /** What a reference of a part is in the complete schema. */
  target(ref: Json, { file, document }: Part): string | { readonly fault: string } {
    if (typeof ref !== 'string') return { fault: 'expected text such as #/$defs/boat or boats.yaml#/petrel' };
    const nowhere = (why: string): { readonly fault: string } => ({ fault: `\`$ref\` leads nowhere: ${why}` });
    const [path = '', fragmentText = ''] = ref.split('#');
    if (/^[a-z][a-z0-9+.-]*:/i.test(path) || path.startsWith('//'))
      return nowhere("nothing is fetched; refer to a file in the configuration's folder");
    let fragment: string;
    try {
      fragment = decodeURIComponent(fragmentText);
    } catch {
      return nowhere(`${JSON.stringify(ref)} is no URI reference`);
    }
    if (fragment !== '' && !fragment.startsWith('/'))
      return nowhere('what follows # is a JSON Pointer, such as #/$defs/boat');
    if (path === '') return this.#placeOf({ file, document, from: fragment }) ?? nowhere(`nothing is at #${fragment}`);
    const target = resolve(dirname(file), path);
    const found = this.#files.read(target);
    if (typeof found === 'string') return nowhere(found);
    if ('faults' in found) {
      this.#faults.push(...found.faults);
      return nowhere(`${path} has mistakes`);
    }
    return (
      this.#placeOf({ file: realpathSync(target), document: found, from: fragment }) ??
      nowhere(`nothing is at ${fragment} in that file`)
    );
  }

  #placeOf(wanted: Omit<Part, 'at'>): string | undefined {
    const { document, from } = wanted;
    if (valueAt(document.value, from) === undefined) return undefined;
    // Of the document that the schema itself is, all is there.
    if (document === this.all[0]?.document) return `#${from}`;
    let part = this.all.find((each) => each.document === document && each.from === from);
    if (part === undefined && this.all.length < maxParts) {
      part = { ...wanted, at: `/$defs/${this.#name(wanted)}` };
      this.all.push(part);
    }
    return part && `#${part.at}`;
  }

  /** A name for a definition that is not taken: by the last step to it, or by its file. */
  #name({ file, from }: Omit<Part, 'at'>): string {
    const last = (from === '' ? file.split(sep) : from.split('/')).at(-1) ?? '';
    const base = last.replace(/\.[^.]*$/, '').replace(/[^A-Za-z0-9_-]/g, '-') || 'schema';
    let name = base;
    for (let count = 2; this.#names.has(name); count++) name = `${base}-${count}`;
    this.#names.add(name);
    return name;
  }
}

function setAt(schema: Record<string, Json>, pointer: string, value: Json): void {
  const [, keyword = '', escaped] = pointer.split('/');
  if (escaped === undefined) {
    schema[keyword] = value;
    return;
  }
  const name = escaped.replaceAll('~1', '/').replaceAll('~0', '~');
  const holder = schema[keyword];
  if (Array.isArray(holder)) schema[keyword] = holder.map((each, index) => (String(index) === name ? value : each));
  else schema[keyword] = { ...(holder as Record<string, Json>), [name]: value };
}
