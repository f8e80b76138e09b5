import { Input } from 'antd';
import { useEffect, useState } from 'react';

/** How long nothing must be typed before a search begins, in milliseconds. */
const settledMs = 250;

/** A field for a search that the service does: it reports the text when the user stops typing. */
export function Find({ hint, onFind }: { readonly hint: string; readonly onFind: (text: string) => void }) {
  const [typed, setTyped] = useState('');
  useEffect(() => {
    const timer = setTimeout(() => onFind(typed.trim()), settledMs);
    return () => clearTimeout(timer);
  }, [typed, onFind]);
  return (
    <Input.Search
      allowClear
      placeholder={hint}
      aria-label={hint}
      className="find"
      value={typed}
      onChange={({ target }) => setTyped(target.value)}
      onSearch={(text) => onFind(text.trim())}
    />
  );
}
