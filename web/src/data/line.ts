/** What the service tells those who listen. */
export interface News {
  connected: boolean;
  upTo?: string; // every change committed before this moment was told
  topics?: string[]; // buckets in which something changed
  all?: boolean; // anything may have changed
  works?: boolean; // how works stand has changed
  refused?: boolean; // the service does not let this session listen any more
}

/** How long the service is left alone after it refused. */
const pause = 5_000;

/** A connection by which the service tells of changes; it is made anew whenever it breaks off. */
export class Line {
  private source?: EventSource;
  private again?: ReturnType<typeof setTimeout>;
  private upTo?: string;

  constructor(
    private readonly address: string,
    private readonly tell: (news: News) => void,
  ) {
    this.open();
  }

  /** What is said to who begins to listen now, having missed what was before. */
  latest(): News | undefined {
    return this.upTo === undefined ? undefined : { connected: true, upTo: this.upTo, all: true };
  }

  close() {
    clearTimeout(this.again);
    this.source?.close();
  }

  private open() {
    const source = new EventSource(this.address);
    this.source = source;
    source.onmessage = (m: MessageEvent<string>) => {
      const { completeUpTo, ...rest } = JSON.parse(m.data) as Omit<News, 'connected'> & { completeUpTo: string };
      this.upTo = completeUpTo;
      this.tell({ connected: true, upTo: completeUpTo, ...rest });
    };
    source.onerror = () => {
      const refused = source.readyState === EventSource.CLOSED;
      this.upTo = undefined;
      this.tell({ connected: false, refused });
      if (refused) this.again = setTimeout(() => this.open(), pause);
    };
  }
}
