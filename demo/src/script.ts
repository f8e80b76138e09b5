import type { Signal } from './regatta.js';

/** Lines of the simulated spectators and crews in the chat of a race. */
export const chatter: readonly { readonly user: string; readonly text: string }[] = [
  { user: 'pia', text: 'The breeze is filling in from the headland, finally.' },
  { user: 'jory', text: 'Turnstone is lifting on the left. Watch her!' },
  { user: 'pia', text: 'Petrel tacked under Dunlin, that was close.' },
  { user: 'tomas', text: 'Good pressure at the pin end, we liked that start.' },
  { user: 'jory', text: 'Who is in the green hull behind Wigeon?' },
  { user: 'pia', text: 'That is Sandpiper, she changed her spinnaker this morning.' },
  { user: 'ines', text: 'Crew hanging in there, two more legs to go.' },
  { user: 'jory', text: 'Whimbrel and Curlew are neck and neck at the gate.' },
  { user: 'pia', text: 'Can anyone see Knot from the breakwater?' },
  { user: 'jory', text: 'Yes, just behind the committee boat, sails down.' },
  { user: 'tomas', text: 'Thank you for the cheering, we can hear it out here.' },
  { user: 'ines', text: 'Petrel covers us on every shift. Fair enough!' },
  { user: 'pia', text: 'Wonderful light over the sound now.' },
  { user: 'jory', text: 'Finish line in ten minutes, bring your flags.' },
];

/** Lines aboard Petrel, between her skipper and the coach. */
export const crewTalk: readonly { readonly user: string; readonly text: string }[] = [
  { user: 'tomas', text: 'Bram, can you see the pressure on the right?' },
  { user: 'bram', text: 'Dark patch off the breakwater, two minutes from you.' },
  { user: 'tomas', text: 'Copy. We tack on the next header.' },
  { user: 'bram', text: 'Good. Turnstone has not seen it.' },
];

/** Lines at the hearing of case 7. */
export const hearing: readonly { readonly user: string; readonly text: string }[] = [
  { user: 'sunniva', text: 'Case 7: Turnstone against Petrel, at the windward mark. Tomas, please begin.' },
  { user: 'tomas', text: 'We were overlapped at the zone and gave room.' },
  { user: 'ines', text: 'That is not how it was!' },
  { user: 'sunniva', text: 'One after the other. Ines, you will be heard next.' },
];

/** The committee's signals, in order. */
export const signals: readonly Signal[] = [
  { signal: 'warning', text: 'Warning signal: five minutes' },
  { signal: 'preparatory', text: 'Preparatory signal: four minutes' },
  { signal: 'one-minute', text: 'One minute' },
  { signal: 'start', text: 'Start' },
  { signal: 'individual-recall', text: 'Individual recall: Dunlin' },
  { signal: 'course-change', text: 'Course change at the windward mark: 215 degrees' },
  { signal: 'shortened-course', text: 'Shortened course: finish at the gate' },
];

/** Official notices, in their order. */
export const notices: readonly string[] = [
  'Race 3 starts at 13:00. The windward mark is 1.2 miles north of Gannet Head.',
  'Tea and soup at the harbour office until sunset.',
  'Race 4 is postponed until the sea breeze has settled.',
  'Skippers: please collect the tide tables at the desk.',
];
