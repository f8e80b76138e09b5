import type { Identity } from '../model/access.js';

const noRoles: readonly string[] = [];
const noClaims: Identity['claims'] = {};

/** The identity of a guest. Small: there may be very many. */
export function guestIdentity(user: string, name = guestName(user)): Identity {
  return { user, name, guest: true, roles: noRoles, claims: noClaims };
}

const firstWords =
  'Quiet Brisk Salty Patient Wandering Northerly Steady Bright Hidden Distant Nimble Weathered Gentle Early Idle Silver Drifting Lively Amber Windward Leeward Rolling Misty Proud Humble Tidal Coastal Swift Mellow Curious Faithful Open'.split(
    ' ',
  );
const secondWords =
  'Spinnaker Halyard Lantern Compass Anchor Harbour Mainsail Rudder Sextant Buoy Keel Jib Tiller Bowsprit Ensign Fathom Mooring Capstan Beacon Pennant Genoa Cleat Shackle Foghorn Breakwater Estuary Headland Topsail Barometer Ketch Sloop Yawl'.split(
    ' ',
  );

/** A friendly name for a guest, always the same for the same id. */
export function guestName(id: string): string {
  let hash = 0x811c9dc5;
  for (let i = 0; i < id.length; i++) hash = Math.imul(hash ^ id.charCodeAt(i), 0x01000193) >>> 0;
  const first = firstWords[hash % firstWords.length] as string;
  const second = secondWords[(hash >>> 12) % secondWords.length] as string;
  return `${first} ${second}`;
}
