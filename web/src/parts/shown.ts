import { createContext, useContext, useLayoutEffect } from 'react';

/** Is told of an error that is being shown beneath; what it gives back says that it is no longer. */
export const Shows = createContext<((error: unknown) => () => void) | null>(null);

/** Tells the form around that an error is shown here. */
export function useShows(error: unknown) {
  const shows = useContext(Shows);
  useLayoutEffect(() => shows?.(error), [shows, error]);
}
