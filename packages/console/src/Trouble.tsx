import { Alert } from 'antd';
import { Component, type ReactNode } from 'react';
import type { Answer } from './queries.js';
import { texts } from './texts.js';

/** Says why a page cannot show something. */
export function Trouble({ of }: { readonly of: readonly Answer<unknown>[] }) {
  const errors = new Set(of.flatMap(({ error }) => error?.message ?? []));
  return [...errors].map((error) => <Alert key={error} type="error" showIcon title={error} />);
}

/** Shows what went wrong in a page instead of an empty one. */
export class ErrorBoundary extends Component<{ readonly children: ReactNode }, { error?: Error }> {
  override state: { error?: Error } = {};

  static getDerivedStateFromError(error: Error): { error: Error } {
    return { error };
  }

  override render(): ReactNode {
    const { error } = this.state;
    if (error === undefined) return this.props.children;
    return (
      <main className="page">
        <Alert type="error" showIcon title={texts.pageFailed} description={error.message} />
      </main>
    );
  }
}
