import { Table, type TableProps } from 'antd';
import { useEffect, useRef } from 'react';

/** A table that scrolls sideways where it has no room, also by keyboard. */
export function ScrollTable<T extends object>({ label, ...props }: TableProps<T> & { readonly label: string }) {
  const box = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const content = box.current?.querySelector('.ant-table-content');
    content?.setAttribute('tabindex', '0');
    content?.setAttribute('role', 'region');
    content?.setAttribute('aria-label', label);
  });
  return (
    <div ref={box}>
      <Table<T> size="small" scroll={{ x: 'max-content' }} {...props} />
    </div>
  );
}
