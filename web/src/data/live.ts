import { type QueryClient, useQueryClient } from '@tanstack/react-query';
import { useEffect, useState } from 'react';

import { eventsAddress } from '../api/client';
import { concerns, everythingLive, still, tellsOfWorks } from './keys';
import { Line, type News } from './line';
import type { Word } from './line.worker';
import { useSession } from './session';

export interface Live {
  connected: boolean;
  upTo?: Date;
}

/** How often a page that listens says so, in milliseconds. */
const breath = 30_000;

/** Listens by the one line that all pages of the browser share; gives what ends it. */
function listenShared(session: string, hear: (news: News) => void): () => void {
  const worker = new SharedWorker(new URL('./line.worker.ts', import.meta.url), { type: 'module', name: 'line' });
  const address = eventsAddress();
  const say = (says: Word['says']) => worker.port.postMessage({ says, session, address } satisfies Word);
  worker.port.onmessage = (m: MessageEvent<News>) => hear(m.data);
  say('listen');
  const breathing = setInterval(() => say('here'), breath);
  return () => {
    clearInterval(breathing);
    say('leave');
    worker.port.close();
  };
}

/** Listens by a line of the page's own, in browsers that share nothing among pages. */
function listenAlone(_: string, hear: (news: News) => void): () => void {
  const line = new Line(eventsAddress(), hear);
  return () => line.close();
}

const listen = 'SharedWorker' in window ? listenShared : listenAlone;

/** Has read again what news concern. */
function readAgain(queries: QueryClient, news: News) {
  const { all, topics = [], works } = news;
  if (news.refused) void queries.invalidateQueries({ queryKey: still('session') });
  else if (all) void queries.invalidateQueries({ queryKey: everythingLive });
  else if (topics.length || works)
    void queries.invalidateQueries({
      predicate: ({ queryKey }) => (topics.length && concerns(queryKey, topics)) || (!!works && tellsOfWorks(queryKey)),
    });
}

/** Hears of changes from the service, as long as the page is looked at, and has pages read again. */
export function useLive(): Live {
  const queries = useQueryClient();
  const { forgery } = useSession();
  const [live, setLive] = useState<Live>({ connected: false });
  useEffect(() => {
    let leave: (() => void) | undefined;
    const hear = (news: News) => {
      setLive((l) => ({ connected: news.connected, upTo: news.upTo ? new Date(news.upTo) : l.upTo }));
      readAgain(queries, news);
    };
    const stop = () => {
      leave?.();
      leave = undefined;
    };
    const begin = () => {
      stop();
      if (document.visibilityState !== 'hidden') leave = listen(forgery, hear);
    };
    begin();
    document.addEventListener('visibilitychange', begin);
    addEventListener('pagehide', stop);
    addEventListener('pageshow', begin);
    return () => {
      stop();
      document.removeEventListener('visibilitychange', begin);
      removeEventListener('pagehide', stop);
      removeEventListener('pageshow', begin);
    };
  }, [queries, forgery]);
  return live;
}
