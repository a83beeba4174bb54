import type { ReactNode } from 'react';

/** A wide column, and a narrow one beside it where the screen has room. */
export const Columns = ({ children, below }: { children: ReactNode; below?: boolean }) => (
  <div className={`columns grid grid-cols-[minmax(0,1fr)_384px] gap-x-28 gap-y-14 ${below ? 'mt-14' : ''}`}>
    {children}
  </div>
);
