import type { Configuration } from '../config/types.js';
import { asyncApi, serverOf } from '../descriptions/asyncApi.js';
import type { Tree } from '../descriptions/components.js';
import { openApi } from '../descriptions/openApi.js';
import { serviceVersion as version } from '../version.js';
import { type AppHost, routesOf } from './app.js';
import { channelRulesOf } from './channelRules.js';

/** A configuration as a service that runs it describes itself, to whom may see all of it. */
export function descriptionsOf(configuration: Configuration): { readonly openApi: Tree; readonly asyncApi: Tree } {
  // The table alone: none of its routes is served.
  const routes = routesOf({ engine: { hooks: {} }, facts: { name: '' } } as unknown as AppHost);
  const { name } = configuration;
  const rules = channelRulesOf(configuration);
  return {
    openApi: openApi(routes, version),
    asyncApi: { ...asyncApi({ name, version, rules }), servers: serverOf({ host: '127.0.0.1:9119', secure: false }) },
  };
}
