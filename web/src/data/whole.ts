/** What a list has in a page, and where the next one begins; nothing when it was the last. */
interface Page {
  next?: string;
}

/** Reads a list to its end, a thousand a page. */
export async function whole<P extends Page, T>(
  page: (query: { limit: number; after?: string }) => Promise<P>,
  of: (page: P) => T[],
): Promise<T[]> {
  const all: T[] = [];
  for (let after: string | undefined; ;) {
    const p = await page({ limit: 1000, after });
    all.push(...of(p));
    if (!p.next) return all;
    after = p.next;
  }
}
