export * from './accessText.js';
export * from './keepText.js';
export * from './ruleTraits.js';
export * from './schemaMembers.js';
export * from './snippets.js';
