import type { ChannelRuleInfo, ChannelRulesInfo, ContractInfo, Json } from '@nine-bells/wire';
import { accessText, membersOf, ruleTraits, snippetsOf, typeText } from '@nine-bells/wire/describe';

/** As much of OpenAPI and AsyncAPI documents as the pages show. */
export interface Description {
  readonly info: { readonly title: string; readonly version: string };
  readonly paths?: Readonly<Record<string, Readonly<Record<string, Operation>>>>;
  readonly channels?: Readonly<Record<string, { readonly messages: Readonly<Record<string, Frame>> }>>;
  readonly components: { readonly schemas: Readonly<Record<string, Json>> };
}

interface Operation {
  readonly summary: string;
  readonly description: string;
  readonly tags: readonly [string];
  readonly parameters?: readonly {
    readonly name: string;
    readonly in: string;
    readonly required: boolean;
    readonly description?: string;
    readonly schema: Json;
  }[];
  readonly requestBody?: {
    readonly content: Readonly<Record<string, { readonly schema: Json; readonly example?: Json }>>;
  };
  readonly responses: Readonly<
    Record<
      string,
      {
        readonly description: string;
        readonly content?: Readonly<Record<string, { readonly schema: Json; readonly example?: Json }>>;
      }
    >
  >;
}

interface Frame {
  readonly title: string;
  readonly payload: Json;
}

interface Reference {
  readonly name: string;
  readonly rules: ChannelRulesInfo;
  readonly openApi: Description;
  readonly asyncApi: Description;
}

/** Text that is HTML already. */
class Markup {
  readonly text: string;
  constructor(text: string) {
    this.text = text;
  }
}

type Part = Markup | string | number | undefined | false | readonly Part[];

/** HTML in which everything that is put in is text, unless it is HTML itself. */
function html(texts: TemplateStringsArray, ...parts: readonly Part[]): Markup {
  return new Markup(texts.reduce((so, text, index) => so + shown(parts[index - 1]) + text));
}

function shown(part: Part): string {
  if (part === undefined || part === false) return '';
  if (part instanceof Markup) return part.text;
  if (typeof part === 'object') return part.map(shown).join('');
  return String(part).replaceAll(/[&<>"']/g, (each) => `&#${each.charCodeAt(0)};`);
}

/** The pages by their file names. They need nothing else, and run nothing. */
export function pagesOf(reference: Reference): Readonly<Record<string, string>> {
  return {
    'index.html': page(reference, 'Channels', channelsPage(reference)),
    'http.html': page(reference, 'HTTP', httpPage(reference.openApi)),
    'line.html': page(reference, 'Line', linePage(reference.asyncApi)),
  };
}

const files: Readonly<Record<string, string>> = { Channels: 'index.html', HTTP: 'http.html', Line: 'line.html' };

function page({ name, openApi }: Reference, title: string, content: Markup): string {
  return html`<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width">
<title>${title} of ${name}</title>
<style>${new Markup(style)}</style>
</head>
<body>
<header>
<strong>${name}</strong>
<nav aria-label="Pages">${Object.entries(files).map(([each, file]) => html`<a href="${file}"${each === title && html` aria-current="page"`}>${each}</a> `)}</nav>
<span class="faint">Nine Bells ${openApi.info.version} · <a href="openapi.json">OpenAPI</a> · <a href="asyncapi.json">AsyncAPI</a></span>
</header>
<main>
${content}
</main>
</body>
</html>
`.text;
}

function idOf(text: string): string {
  return text.replaceAll(/[^A-Za-z0-9]+/g, '-').replaceAll(/^-|-$/g, '');
}

// ------------------------------------------------------------------------------------------------ channels

function channelsPage({ rules: { rules, notices } }: Reference): Markup {
  return html`<nav class="contents" aria-label="Channel rules"><ul>${rules.map(
    ({ pattern, about }) =>
      html`<li><a href="#${idOf(pattern)}"><code>${pattern}</code></a> <span class="faint">${about}</span></li>`,
  )}</ul></nav>
<div>
${rules.map(ruleSection)}
${notices !== undefined && html`<section><h2>Notices</h2>${contractPart(undefined, notices)}</section>`}
</div>`;
}

function ruleSection(rule: ChannelRuleInfo): Markup {
  const { pattern, about, allow, board, types, hails, status } = rule;
  return html`<section id="${idOf(pattern)}">
<h2><code>${pattern}</code></h2>
<p>${about}</p>
<p class="faint">${ruleTraits(rule).join('; ')}</p>
<h3>Who may do what</h3>
<table>${Object.entries({ publish: 'nobody', ...allow }).map(
    ([act, access]) =>
      html`<tr><th scope="row">${act}</th><td>${accessText(withoutUrls(access))}${act === 'publish' && html` <span class="faint">of the clients; applications with their key may</span>`}</td></tr>`,
  )}</table>
<h3>Messages</h3>
${types === undefined ? html`<p>Messages of any type, with any data.</p>` : contractParts(types, pattern)}
${hails !== undefined && html`<h3>Hails</h3>${contractParts(hails)}`}
${board?.contract !== undefined && html`<h3>Entries of the board</h3>${contractPart(undefined, board.contract)}`}
${status !== undefined && html`<h3>Status of members</h3>${contractPart(undefined, status)}`}
</section>`;
}

/** An access rule without the URLs that the application is asked at, which are not for everyone who reads the pages. */
function withoutUrls(rule: Json): Json {
  return JSON.parse(JSON.stringify(rule, (name, each) => (name === 'ask' ? 'the application' : each))) as Json;
}

/** Text in which code stands between backticks. */
function prose(text: string | undefined): readonly Part[] {
  return (text ?? '').split('`').map((part, index) => (index % 2 === 1 ? html`<code>${part}</code>` : part));
}

function contractParts(all: Readonly<Record<string, ContractInfo>>, pattern?: string): readonly Markup[] {
  return Object.entries(all).map(([type, each]) => contractPart(type, each, pattern));
}

function contractPart(
  type: string | undefined,
  { about, from, schema, example }: ContractInfo,
  pattern?: string,
): Markup {
  const channel = pattern?.replaceAll(/:(\w+)/g, (_, name: string) => name.toUpperCase());
  return html`<article>
${type !== undefined && html`<h4><code>${type}</code> ${about}${from !== undefined && html` <span class="faint">only ${from} publish it</span>`}</h4>`}
${membersPart(schema, schema)}
${example !== undefined && html`<pre>${JSON.stringify(example)}</pre>`}
${schema !== undefined && html`<details><summary>JSON Schema</summary><pre>${JSON.stringify(schema, null, 2)}</pre></details>`}
${
  type !== undefined &&
  channel !== undefined &&
  html`<details><summary>Publish it</summary>${snippetsOf('$NINEBELLS_URL', channel, type, example ?? {}).map(
    ({ label, text }) => html`<p class="faint">${label}</p><pre>${text}</pre>`,
  )}</details>`
}
</article>`;
}

/** How deep the members of members are shown. */
const mostNested = 2;

/** The members of what a schema describes, as a table; or what it takes, in a sentence. */
function membersPart(schema: Json | undefined, root: Json | undefined, depth = 0): Markup {
  const members = membersOf(schema, root);
  if (members === undefined)
    return html`<p>${schema === undefined ? 'Any data fits.' : `It is ${typeText(schema, root)}.`}</p>`;
  return html`<table>${members.map(
    ({ name, required, type, about, inner }) =>
      html`<tr><th scope="row"><code>${name}</code></th><td>${required ? 'required' : ''}</td><td>${type} <span class="faint">${prose(about)}</span>${
        inner !== undefined &&
        depth < mostNested &&
        html`<details><summary>Its members</summary>${membersPart(inner, root, depth + 1)}</details>`
      }</td></tr>`,
  )}</table>`;
}

// ---------------------------------------------------------------------------------------------------- HTTP

function httpPage(openApi: Description): Markup {
  const all = Object.entries(openApi.paths ?? {}).flatMap(([path, each]) =>
    Object.entries(each).map(([method, operation]) => ({ name: `${method.toUpperCase()} ${path}`, operation })),
  );
  const tags = [...new Set(all.map(({ operation }) => operation.tags[0]))];
  return html`<nav class="contents" aria-label="Requests"><ul>${all.map(
    ({ name }) => html`<li><a href="#${idOf(name)}"><code>${name}</code></a></li>`,
  )}</ul></nav>
<div>${tags.map(
    (tag) =>
      html`<h2>${tag}</h2>${all
        .filter(({ operation }) => operation.tags[0] === tag)
        .map(({ name, operation }) => operationPart(name, operation, openApi))}`,
  )}</div>`;
}

function operationPart(name: string, operation: Operation, document: Description): Markup {
  const { description, parameters = [], requestBody, responses } = operation;
  const root = document as unknown as Json;
  const body = requestBody?.content['application/json'];
  const answers = Object.entries(responses).filter(([status]) => status.startsWith('2'));
  const refusals = Object.entries(responses).filter(([status]) => !status.startsWith('2'));
  return html`<section id="${idOf(name)}">
<h3><code>${name}</code></h3>
${description.split('\n\n').map((each) => html`<p>${prose(each)}</p>`)}
${
  parameters.length > 0 &&
  html`<table>${parameters.map(
    (each) =>
      html`<tr><th scope="row"><code>${each.name}</code></th><td>in the ${each.in}${each.required ? ', required' : ''}</td><td>${typeText(each.schema, root)} <span class="faint">${prose(each.description)}</span></td></tr>`,
  )}</table>`
}
${body !== undefined && html`<h4>Body</h4>${alternatives(body.schema, root)}${body.example !== undefined && html`<pre>${JSON.stringify(body.example)}</pre>`}`}
${answers.slice(0, 1).map(([status, { content = {} }]) => {
  const [found] = Object.values(content);
  return html`<h4>Answer: ${answers.map(([each]) => each).join(' or ')}</h4>${found === undefined ? html`<p>${status}, with nothing in it.</p>` : html`${alternatives(found.schema, root)}${found.example !== undefined && html`<pre>${JSON.stringify(found.example)}</pre>`}`}`;
})}
<details><summary>Refusals</summary><table>${refusals.map(([status, each]) => html`<tr><th scope="row">${status}</th><td>${prose(each.description)}</td></tr>`)}</table></details>
</section>`;
}

/** A schema that may be one of several: each on its own, the first one open. */
function alternatives(schema: Json, root: Json): Markup {
  const several =
    typeof schema === 'object' && schema !== null && 'anyOf' in schema ? (schema.anyOf as readonly Json[]) : [schema];
  const [first, ...others] = several;
  return html`${membersPart(first, root)}${others.map((each) => html`<p class="faint">Or ${isListOf(each, first) ? 'a list of these' : typeText(each, root)}.</p>`)}`;
}

function isListOf(schema: Json, element: Json | undefined): boolean {
  const isArray = typeof schema === 'object' && schema !== null && 'items' in schema;
  return isArray && JSON.stringify(schema.items) === JSON.stringify(element);
}

// ---------------------------------------------------------------------------------------------------- line

const kinds = [
  ['request', 'What a client says'],
  ['reply', 'What is replied'],
  ['push', 'What the service says unasked'],
] as const;

function linePage(asyncApi: Description): Markup {
  const frames = Object.entries(asyncApi.channels?.line?.messages ?? {});
  const messages = kinds.flatMap(([kind]) => frames.filter(([id]) => id.startsWith(`${kind}-`)));
  const root = asyncApi as unknown as Json;
  return html`<nav class="contents" aria-label="Frames"><ul>${messages.map(
    ([id]) => html`<li><a href="#${id}"><code>${id.replace('-', ' ')}</code></a></li>`,
  )}</ul></nav>
<div>${kinds.map(
    ([kind, title]) =>
      html`<h2>${title}</h2>${kind === 'reply' && html`<p>A request that is refused has <code>problem</code> in place of these.</p>`}${messages
        .filter(([id]) => id.startsWith(`${kind}-`))
        .map(
          ([id, { payload }]) =>
            html`<section id="${id}"><h3><code>${id.slice(kind.length + 1)}</code></h3>${membersPart(payload, root)}</section>`,
        )}`,
  )}</div>`;
}

const style = `
:root { color-scheme: light dark; --ink: #2b3a42; --faint: #5d6b70; --paper: #f4f1e8; --rule: #d8d2c0; --link: #7d4f0d; }
@media (prefers-color-scheme: dark) { :root { --ink: #e4e0d4; --faint: #a9b0ad; --paper: #1d262b; --rule: #3a474d; --link: #e0b062; } }
body { margin: 0; background: var(--paper); color: var(--ink); font: 16px/1.5 system-ui, sans-serif; }
header { display: flex; flex-wrap: wrap; gap: 0.4rem 2rem; align-items: baseline; padding: 0.8rem 1.5rem; border-bottom: 3px double var(--rule); }
header nav a { margin-right: 1rem; }
header > :last-child { margin-left: auto; }
main { display: grid; grid-template-columns: minmax(14rem, 20rem) minmax(0, 56rem); gap: 2.5rem; padding: 1rem 1.5rem; }
@media (max-width: 56rem) { main { grid-template-columns: minmax(0, 1fr); } }
.contents ul { list-style: none; margin: 0; padding: 0; position: sticky; top: 1rem; max-height: 92vh; overflow: auto; }
.contents li { margin-bottom: 0.5rem; }
.contents li span { display: block; }
a { color: var(--link); }
a[aria-current] { color: inherit; font-weight: 600; text-decoration: none; }
h1, h2, h3, header strong { font-family: Georgia, serif; }
h2 { margin: 0.6rem 0 0.2rem; }
h3 { margin: 1.1rem 0 0.3rem; }
h4 { margin: 0.8rem 0 0.2rem; font-weight: 400; }
h4 code { font-weight: 600; }
section { border-bottom: 1px solid var(--rule); padding-bottom: 1.2rem; margin-bottom: 1.2rem; }
table { border-spacing: 0; }
th { text-align: left; font-weight: 400; }
th, td { vertical-align: top; padding: 0.1rem 1.2rem 0.1rem 0; }
pre { white-space: pre-wrap; overflow-wrap: anywhere; margin: 0.3rem 0; font-size: 0.85rem; }
p { margin: 0.3rem 0; }
.faint { color: var(--faint); }
summary { cursor: pointer; }
`;
