import { Line, type News } from './line';

/** What a page says: it listens to an address, is there still, or leaves. A session has lines of its own. */
export interface Word {
  says: 'listen' | 'here' | 'leave';
  session: string;
  address: string;
}

/** A page that is silent for so long is gone, in milliseconds. */
const silence = 90_000;

/** A line, and the pages that hear it. */
class Shared {
  readonly pages = new Map<MessagePort, number>(); // when each was heard last
  private readonly line: Line;

  constructor(address: string) {
    this.line = new Line(address, (news) => this.pages.forEach((_, page) => page.postMessage(news)));
  }

  latest(): News | undefined {
    return this.line.latest();
  }

  close() {
    this.line.close();
  }
}

const lines = new Map<string, Shared>();

function leave(name: string, page: MessagePort) {
  const line = lines.get(name);
  line?.pages.delete(page);
  if (line?.pages.size === 0) {
    line.close();
    lines.delete(name);
  }
}

function hear(page: MessagePort, { says, session, address }: Word) {
  const name = `${session} ${address}`;
  if (says === 'leave') return leave(name, page);
  let line = lines.get(name);
  const known = line?.pages.has(page);
  if (!line) lines.set(name, (line = new Shared(address)));
  line.pages.set(page, Date.now());
  const latest = known ? undefined : line.latest();
  if (latest) page.postMessage(latest);
}

setInterval(() => {
  for (const [name, line] of [...lines])
    for (const [page, heard] of [...line.pages]) if (Date.now() - heard > silence) leave(name, page);
}, silence / 3);

const scope = self as unknown as { onconnect: (e: MessageEvent) => void };
scope.onconnect = (e) => {
  const page = e.ports[0]!;
  page.onmessage = (m: MessageEvent<Word>) => hear(page, m.data);
};
