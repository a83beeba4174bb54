import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';

import { api, ask } from '../../api/client';
import { useCharters } from '../../data/charters';
import { Trouble, When } from '../../parts/Bits';
import { Listing } from '../../parts/Listing';
import { State } from '../../parts/Marks';
import { things } from '../../parts/format';
import { Enacting } from './Enacting';

/** The files that say how the house is to be, as they were enacted last. */
export default function Charters() {
  const list = useCharters();
  const exporting = useMutation({
    mutationFn: () => ask(api.GET('/api/v1/charters/export')),
    onSuccess: (c) => keep(c.text, 'charter.yaml'),
  });
  const [enacting, setEnacting] = useState<'enact' | 'retire' | null>(null);
  return (
    <>
      <div className="pagehead">
        <div>
          <h1>Charters</h1>
          <p className="meta">
            <span>The house as files write it down</span>
          </p>
        </div>
        <div className="row">
          <button
            type="button"
            className="btn"
            disabled={exporting.isPending}
            onClick={() => exporting.mutate(undefined)}
          >
            Export what there is
          </button>
          <button type="button" className="btn" onClick={() => setEnacting('retire')}>
            Take one down
          </button>
          <button type="button" className="btn main" onClick={() => setEnacting('enact')}>
            Compare and enact
          </button>
        </div>
      </div>
      {list.error || exporting.error ? <Trouble error={list.error ?? exporting.error} /> : null}
      <Listing
        rows={list.data ?? []}
        id={(c) => c.charter}
        empty={
          <div className="empty">
            <b className="strong">No charter was enacted.</b>
            <p className="dim">
              A charter is a file with buckets, rules, jobs and the like. Export what there is to have one to begin
              with.
            </p>
          </div>
        }
        columns={[
          {
            head: 'Charter',
            cell: (c) => (
              <Link className="strong" to={`/charters/${c.charter}`}>
                {c.charter}
              </Link>
            ),
          },
          { head: 'State', cell: (c) => <Standing state={c.state} drift={c.drift} says={c.says} /> },
          { head: 'When', cell: (c) => <When at={c.at} />, className: 'dim' },
          { head: 'By', cell: (c) => c.by, className: 'key cut' },
          { head: 'Answers for', cell: (c) => things(c.things, 'thing'), className: 'dim' },
          { head: 'Files', cell: (c) => c.digest.slice(0, 12), className: 'key faint' },
        ]}
      />
      {enacting ? <Enacting retire={enacting === 'retire'} onClose={() => setEnacting(null)} /> : null}
    </>
  );
}

/** How a charter stands. */
export function Standing({ state, drift, says }: { state: string; drift?: number; says?: string }) {
  if (state === 'retired') return <State kind="gone">taken down</State>;
  if (state === 'stopped')
    return (
      <span title={says}>
        <State kind="wrong">stopped</State>
      </span>
    );
  if (state === 'enacted' && drift === undefined) return <State kind="good">enacted</State>;
  if (state !== 'enacted') return <State kind="run">{state}</State>;
  return drift ? <State kind="warn">{things(drift, 'thing')} drifted</State> : <State kind="good">as declared</State>;
}

/** Has the browser keep a text as a file. */
function keep(text: string, name: string) {
  const a = document.createElement('a');
  a.href = URL.createObjectURL(new Blob([text], { type: 'application/yaml' }));
  a.download = name;
  a.click();
  setTimeout(() => URL.revokeObjectURL(a.href), 1000);
}
