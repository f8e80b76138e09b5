/** Configuration of a service that has an answer to every route and every frame. */
export const describedText = `
service: { name: Test Regatta, port: 0, guests: true }
tokens: { secret: "a secret that is long enough for HS256, surely" }
ask: { secret: "whsec_MDEyMzQ1Njc4OTAxMjM0NTY3ODkwMTIzNDU2Nzg5MDE=" }
intakes:
  buoy:
    verify: { bearer: the-buoy-may-come-in }
    routes: [{ when: { at: /kind, is: wind }, message: { channel: weather/buoy, type: reading, data: /reading } }]
hooks: { bureau: { url: "http://127.0.0.1:9/", secrets: "whsec_MDEyMzQ1Njc4OTAxMjM0NTY3ODkwMTIzNDU2Nzg5MDE=" } }
feeds: { results: { channels: ["race/:race/chat"] } }
channels:
  - pattern: race/:race/chat
    about: Chat of a race
    logbook: kept
    revisions: kept
    reactions: true
    allow: { enter: anyone, publish: signed-in, revise: anyone, withdraw: anyone, revisions: anyone, react: anyone, hail: signed-in, set: signed-in, moderate: { role: jury } }
    presence: true
    marks: shown
    types:
      message:
        about: What a spectator says
        schema: { type: object, required: [text], properties: { text: { $ref: "#/$defs/text" } }, $defs: { text: { type: string, maxLength: 20 } } }
        example: { text: Go! }
      recall: { from: applications }
    hails: { typing: { schema: { type: boolean }, example: true } }
    board: { contract: { schema: { type: object, required: [x] }, example: { x: 1 } } }
  - { pattern: "crew/:boat", allow: { enter: { claim: boats, holds: ":boat" } } }
  - { pattern: "jury/:case", allow: { enter: { role: jury }, publish: { role: jury } } }
  - { pattern: weather/:station, allow: { enter: anyone } }
  # There is no application to ask: so all of it waits.
  - pattern: watched
    logbook: kept
    replies: true
    allow: { enter: anyone, publish: signed-in }
    review: { ask: "http://127.0.0.1:9/", within: 200ms, otherwise: hold }
`;
