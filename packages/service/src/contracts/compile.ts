import { resolve } from 'node:path';
import type { BoardRule, ChannelRule, Contract, ContractsByType } from '@nine-bells/core';
import { defined } from '@nine-bells/wire';
import type { Fault } from '@nine-bells/yaml';
import { Ajv2020, type ValidateFunction } from 'ajv/dist/2020.js';
import addFormatsModule from 'ajv-formats';
import { type Bundle, bundle, SchemaFiles, type SchemaPlace } from './bundle.js';
import type { Unread, WrittenContract } from './contractReader.js';
import { dataFaults } from './dataFaults.js';
import { formats } from './keywords.js';
import { linearPattern, schemaFaults } from './schemaFaults.js';

// The module's default export is typed as the whole module.
const addFormats = addFormatsModule.default;

/** Compiles the contracts of a configuration, and gathers what is wrong with them. */
export class ContractCompiler {
  readonly faults: Fault[] = [];
  readonly #file: string;
  readonly #folder: string;
  readonly #files: SchemaFiles;
  /** Stops at the first fault: whether data fits. */
  #quickOne: Ajv2020 | undefined;
  /** Finds all of them. */
  #thoroughOne: Ajv2020 | undefined;

  /**
   * @param file - of the configuration
   * @param folder - in which it lies: no schema is read from elsewhere
   */
  constructor(file: string, folder: string) {
    this.#file = file;
    this.#folder = folder;
    this.#files = new SchemaFiles(folder);
  }

  // Made when they are first needed: each compiles the schema of schemas.
  get #quick(): Ajv2020 {
    this.#quickOne ??= validator(false);
    return this.#quickOne;
  }

  get #thorough(): Ajv2020 {
    this.#thoroughOne ??= validator(true);
    return this.#thoroughOne;
  }

  /** A channel rule with its contracts compiled. */
  rule(rule: ChannelRule): ChannelRule {
    const { types, hails, status, board } = rule;
    if (types === undefined && hails === undefined && status === undefined && board?.contract === undefined)
      return rule;
    return {
      ...rule,
      ...defined({
        types: types && this.#byType(types),
        hails: hails && this.#byType(hails),
        status: status && this.contract(status),
        board: board && this.#board(board),
      }),
    };
  }

  #byType(all: ContractsByType): ContractsByType {
    return Object.fromEntries(Object.entries(all).map(([type, each]) => [type, this.contract(each)]));
  }

  #board(board: BoardRule): BoardRule {
    return board.contract === undefined ? board : { ...board, contract: this.contract(board.contract) };
  }

  contract(unread: Contract): Contract {
    // What the configuration's reader gives has its written form beside it.
    const { written } = unread as Unread<Contract>;
    const { schema: _, file: __, example, ...said } = written;
    const own = { ...said, ...(example === undefined ? {} : { example: example.value }) };
    const complete = this.#bundle(written);
    if (complete === undefined) return own;
    const compiled = this.#compile(complete);
    if (compiled === undefined) return own;
    const { fits, faults } = compiled;
    if (example !== undefined && !fits(example.value))
      for (const { where, expected, found } of faults(example.value, true).slice(0, 5))
        this.faults.push(
          example.faultAt(
            where,
            `the example does not fit the schema: ${where === '' ? '' : `at ${where} `}expected ${expected}${found === undefined ? '' : `, found ${found}`}`,
          ),
        );
    return { ...own, schema: complete.schema, fits, faults };
  }

  #bundle({ schema, file }: WrittenContract): Bundle | undefined {
    const place = schema !== undefined ? { file: this.#file, document: schema } : this.#fileOf(file);
    if (place === undefined) return undefined;
    const found = bundle(place, this.#files);
    if (!('faults' in found)) return found;
    this.faults.push(...found.faults);
    return undefined;
  }

  #fileOf(file: WrittenContract['file']): SchemaPlace | undefined {
    if (file === undefined) return undefined;
    const fault = (detail: string): undefined => void this.faults.push(file.faultAt('', detail));
    if (typeof file.value !== 'string' || file.value === '') return fault('expected the path of a file');
    const [path = '', fragment] = file.value.split('#');
    // A part of a file is referred to, so that what it refers to in the file is found.
    if (fragment) return { file: this.#file, document: { value: { $ref: file.value }, faultAt: file.faultAt } };
    const found = this.#files.read(resolve(this.#folder, path));
    if (typeof found === 'string') return fault(found);
    if ('faults' in found) {
      this.faults.push(...found.faults);
      return undefined;
    }
    return { file: resolve(this.#folder, path), document: found };
  }

  #compile({ schema, faultAt }: Bundle): Required<Pick<Contract, 'fits' | 'faults'>> | undefined {
    const wrong = schemaFaults(schema);
    for (const { pointer, detail } of wrong.slice(0, 20)) this.faults.push(faultAt(pointer, detail));
    if (wrong.length > 0) return undefined;
    if (typeof schema !== 'boolean' && !this.#quick.validateSchema(schema as object)) {
      const [first] = dataFaults(this.#thorough.validateSchema(schema as object) ? [] : (this.#thorough.errors ?? []));
      const { where = '', expected = 'a schema', found } = first ?? {};
      this.faults.push(faultAt(where, `expected ${expected}${found === undefined ? '' : `, found ${found}`}`));
      return undefined;
    }
    let quick: ValidateFunction;
    try {
      quick = this.#quick.compile(schema as object | boolean);
    } catch (error) {
      this.faults.push(faultAt('', (error as Error).message));
      return undefined;
    }
    let thorough: ValidateFunction | undefined;
    return {
      fits: (data) => quick(data),
      faults: (data, all) => {
        thorough ??= this.#thorough.compile(schema as object | boolean);
        const found = all ? thorough : quick;
        return found(data) ? [] : dataFaults(found.errors ?? []);
      },
    };
  }
}

function validator(allErrors: boolean): Ajv2020 {
  const made = new Ajv2020({
    strict: false,
    allErrors,
    verbose: allErrors,
    validateSchema: false,
    code: { regExp: Object.assign((pattern: string) => linearPattern(pattern), { code: 'linearPattern' }) },
  });
  addFormats(made, { formats: [...formats] });
  return made;
}
