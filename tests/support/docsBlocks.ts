import { readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { root } from './command.js';

/** A block of code in the docs. */
export interface Block {
  readonly page: string;
  readonly line: number;
  readonly language: string;
  readonly code: string;
}

const pages = [
  'README.md',
  ...['docs', ...readdirSync(join(root, 'packages')).map((name) => `packages/${name}`)].flatMap((folder) =>
    readdirSync(join(root, folder))
      .filter((name) => name.endsWith('.md'))
      .map((name) => `${folder}/${name}`),
  ),
];

const blocks: readonly Block[] = pages.flatMap((page) => {
  const text = readFileSync(join(root, page), 'utf8');
  return [...text.matchAll(/^```([a-z]+)\n([\s\S]*?)^```/gm)].map(({ 1: language = '', 2: code = '', index }) => ({
    page,
    line: text.slice(0, index).split('\n').length + 1,
    language,
    code,
  }));
});

/** Returns the blocks in some languages. */
export function blocksIn(...languages: readonly string[]): readonly Block[] {
  return blocks.filter(({ language }) => languages.includes(language));
}

/** A command in the docs. */
export interface Shown {
  readonly page: string;
  readonly line: number;
  readonly text: string;
}

/** The commands of a block, with what follows after a backslash. */
export const shown: readonly Shown[] = blocksIn('sh').flatMap(({ page, line, code }) => {
  const lines = code.replace(/\\\n\s*/g, (joined) => `${' '.repeat(joined.length - 1)}`);
  return lines
    .split('\n')
    .map((text) => ({ page, line, text: text.replace(/\s+#.*$/, '').trim() }))
    .filter(({ text }) => /ninebells |^curl /.test(text) && !text.startsWith('export '));
});
