import { DataTypes, type Model, type ModelAttributes, type ModelStatic, type Sequelize } from 'sequelize';
import { type Row, type TableName, tables } from './tables.js';

/** Tables that are read by model; the others by statements. */
const modelled = [
  'channels',
  'messages',
  'api_keys',
  'bans',
  'cutoffs',
  'audit',
  'users',
  'user_roles',
  'notices',
  'facts',
] as const satisfies readonly TableName[];

type Table<T extends TableName> = ModelStatic<Model<Row<T>, Row<T>>>;
export type Models = { readonly [T in (typeof modelled)[number]]: Table<T> };

/** Defines the models of tables that the migrations have made. */
export function defineModels(sequelize: Sequelize): Models {
  const models = modelled.map((name) => {
    const columns = Object.entries(tables[name]).map(([column, { type, isKey }]) => [
      column,
      { type: DataTypes[type], primaryKey: isKey },
    ]);
    const attributes: ModelAttributes = Object.fromEntries(columns);
    return [name, sequelize.define(name, attributes, { timestamps: false, freezeTableName: true })];
  });
  return Object.fromEntries(models);
}

/** Rows that were asked for with `raw`: Sequelize types them as instances of the model all the same. */
export function rowsOf<Found extends object>(found: readonly Model<Found, Found>[]): readonly Found[] {
  return found as unknown as readonly Found[];
}
