import { Button } from 'antd';
import { texts } from './texts.js';
import type { Pages } from './usePages.js';

/** The way through the pages of a list; nothing where there is one page only. */
export function Pager({ of, label }: { readonly of: Pages<unknown>; readonly label: string }) {
  const { previous, next } = of;
  if (previous === undefined && next === undefined) return null;
  return (
    <nav className="pager" aria-label={label}>
      <Button size="small" disabled={previous === undefined} onClick={previous}>
        {texts.previousPage}
      </Button>
      <Button size="small" disabled={next === undefined} onClick={next}>
        {texts.nextPage}
      </Button>
    </nav>
  );
}
