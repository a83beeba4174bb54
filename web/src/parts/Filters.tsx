import type { ReactNode } from 'react';
import { useSearchParams } from 'react-router';

/** Filters that stand in the page's address, so that it can be kept and sent. */
export function useFilters<N extends string>(...names: N[]) {
  const [query, setQuery] = useSearchParams();
  const filter = Object.fromEntries(names.map((n) => [n, query.get(n) ?? ''])) as Record<N, string>;
  const set = (name: N, value: string) =>
    setQuery(
      (q) => {
        if (value) q.set(name, value);
        else q.delete(name);
        return q;
      },
      { replace: true },
    );
  const fill = (values: Record<N, string>) =>
    setQuery(Object.fromEntries(names.flatMap((n) => (values[n] ? [[n, values[n]]] : []))), { replace: true });
  return { filter, set, fill, some: names.some((n) => filter[n]), clear: () => setQuery({}, { replace: true }) };
}

/** The line of filters above a list. */
export const Filters = ({ some, onClear, children }: { some: boolean; onClear: () => void; children: ReactNode }) => (
  <div className="row mb-10 flex-wrap" role="search">
    {children}
    {some ? (
      <button type="button" className="btn bare" onClick={onClear}>
        Clear
      </button>
    ) : null}
  </div>
);
