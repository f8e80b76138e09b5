export { type Difference, differences, patternFault } from './matching.js';
export { filledIn, MissingValue } from './references.js';
