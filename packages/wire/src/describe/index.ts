export * from './accessText.js';
export * from './keepText.js';
export * from './schemaMembers.js';
export * from './snippets.js';
