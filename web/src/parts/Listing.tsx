import type { ReactNode } from 'react';

/** A column of a listing. */
export interface Column<T> {
  head?: ReactNode;
  cell: (row: T) => ReactNode;
  /** Of its cells, beside what figures have. */
  className?: string;
  figure?: boolean;
  title?: (row: T) => string | undefined;
}

/** A list that is read page by page. */
export interface Paged {
  hasNextPage: boolean;
  isFetchingNextPage: boolean;
  fetchNextPage: () => Promise<unknown>;
}

interface Props<T> {
  rows: T[];
  columns: Column<T>[];
  id: (row: T) => string | number;
  list?: Paged;
  /** What stands there when there are no rows. */
  empty?: ReactNode;
  className?: string;
}

/** A table of things, with a button for more when there are more. */
export function Listing<T>({ rows, columns, id, list, empty, className }: Props<T>) {
  if (!rows.length && empty && !list?.hasNextPage) return empty;
  const cells = (c: Column<T>) => `${c.figure ? 'num' : ''} ${c.className ?? ''}`.trim() || undefined;
  return (
    <>
      <table className={className}>
        <thead>
          <tr>
            {columns.map((c, i) => (
              <th key={i} className={c.figure ? 'num' : undefined}>
                {c.head}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.map((row) => (
            <tr key={id(row)}>
              {columns.map((c, i) => (
                <td key={i} className={cells(c)} title={c.title?.(row)}>
                  {c.cell(row)}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      {list ? <More list={list} /> : null}
    </>
  );
}

/** The button beneath a list that has more. */
export const More = ({ list }: { list: Paged }) =>
  list.hasNextPage ? (
    <button
      type="button"
      className="btn mt-8"
      disabled={list.isFetchingNextPage}
      onClick={() => void list.fetchNextPage()}
    >
      Read more
    </button>
  ) : null;
