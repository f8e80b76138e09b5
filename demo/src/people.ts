/** Someone of the invented regatta. */
export interface Person {
  readonly user: string;
  readonly name: string;
  readonly roles: readonly string[];
  readonly claims?: Readonly<Record<string, string | readonly string[]>>;
}

export const people: readonly Person[] = [
  { user: 'mira', name: 'Mira Holt', roles: ['committee'] },
  { user: 'tomas', name: 'Tomas Verne', roles: ['skipper'], claims: { boats: 'petrel', cases: ['7'] } },
  { user: 'ines', name: 'Ines Okoro', roles: ['skipper'], claims: { boats: 'turnstone', cases: ['7'] } },
  { user: 'sunniva', name: 'Sunniva Dahl', roles: ['jury', 'chair'] },
  { user: 'oona', name: 'Oona Reyes', roles: ['steward'] },
  { user: 'felix', name: 'Felix Marsh', roles: ['steward'] },
  { user: 'bram', name: 'Bram Achter', roles: ['coach'] },
  { user: 'pia', name: 'Pia Lund', roles: [] },
  { user: 'jory', name: 'Jory Teague', roles: [] },
];

/** Returns the users and roles that a text mentions by "@". */
export function calledIn(text: string): { readonly users: readonly string[]; readonly roles: readonly string[] } {
  const names = [...text.matchAll(/@(\w+)/g)].map(([, name = '']) => name.toLowerCase());
  const roles = new Set(people.flatMap((each) => each.roles));
  return {
    users: names.filter((name) => personOf(name) !== undefined),
    roles: names.filter((name) => roles.has(name)),
  };
}

export function personOf(user: string): Person | undefined {
  return people.find((each) => each.user === user);
}
