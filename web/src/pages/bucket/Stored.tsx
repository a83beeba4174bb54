import { useState } from 'react';

import { type Schemas, api, ask } from '../../api/client';
import { usePlacements } from '../../data/placements';
import { useChange } from '../../data/queries';
import { useSession } from '../../data/session';
import { Complaint, Section } from '../../parts/Bits';
import { Switch } from '../../parts/Switch';
import { useToast } from '../../parts/Toasts';
import { size, things } from '../../parts/format';
import { PlaceDialog } from '../placements/PlaceDialog';
import { Fixed, type Kept, PlacementChoice } from '../placements/PlacementChoice';

/** How the bytes are kept: where new content goes, and what is there already. */
export function Placed({ b }: { b: Schemas['BucketInfo'] }) {
  const toast = useToast();
  const session = useSession();
  const offered = usePlacements(b.account).data?.placements ?? [];
  const [kept, setKept] = useState<Kept>({ placement: b.placementDue ?? b.placement ?? '', tier: b.tier });
  const [placing, setPlacing] = useState(false);
  const turn = useChange(() =>
    ask(
      api.PATCH('/api/v1/buckets/{bucket}', {
        params: { path: { bucket: b.name } },
        body: b.placement ? { placement: 'none', tier: kept.tier } : { tier: kept.tier },
      }),
    ),
  );
  const same = kept.placement === (b.placement ?? '') && kept.tier === b.tier;
  return (
    <Section title="How bytes are kept">
      <div className="pt-12 grid gap-12">
        {b.placementFixed && !session.operator ? (
          <>
            <Fixed name={b.placementDue ?? b.placement ?? 'none'} by={b.placementBy ?? ''} list={offered} />
            {b.placementDue ? (
              <p className="small dim">
                This bucket is older than that: it has {b.placement ?? `no placement, in ${b.tier}`}.
              </p>
            ) : null}
          </>
        ) : (
          <PlacementChoice account={b.account} value={kept} onChange={setKept} />
        )}
        {b.placing ? <p className="dim">{b.placing}</p> : null}
        {turn.error ? <Complaint error={turn.error} /> : null}
        {kept.placement ? (
          <div>
            <button type="button" className="btn main" onClick={() => setPlacing(true)}>
              {same ? 'Bring what is there in line' : 'Place the bucket'}
            </button>
          </div>
        ) : (
          <>
            <p className="small dim">What is there already stays where it is; a lifecycle rule moves it.</p>
            <div>
              <button
                type="button"
                className="btn main"
                disabled={same || turn.isPending}
                onClick={() => turn.mutate(undefined, { onSuccess: (n) => toast(`New content goes to ${n.tier}`) })}
              >
                Save
              </button>
            </div>
          </>
        )}
      </div>
      {placing ? <PlaceDialog bucket={b.name} placement={kept.placement} onClose={() => setPlacing(false)} /> : null}
    </Section>
  );
}

/** Whether content is encrypted at rest, and the conversion of what is there. */
export function Sealing({ b }: { b: Schemas['BucketInfo'] }) {
  const toast = useToast();
  const [found, setFound] = useState<Schemas['Rehearsal'] | null>(null);
  const turn = useChange((sealing: boolean) =>
    ask(api.PATCH('/api/v1/buckets/{bucket}', { params: { path: { bucket: b.name } }, body: { sealing } })),
  );
  const order = { kind: 'convert' as const, bucket: b.name, prefix: '' };
  const rehearse = useChange(() => ask(api.POST('/api/v1/orders/rehearse', { body: order })));
  const convert = useChange(() => ask(api.POST('/api/v1/orders', { body: order })));
  const to = b.sealing ? 'encrypted' : 'plain';
  return (
    <Section title="Encryption at rest">
      <div className="pt-12 grid gap-10">
        <Switch
          on={b.sealing}
          disabled={turn.isPending}
          onChange={(on) => {
            setFound(null);
            turn.mutate(on, {
              onSuccess: (n) =>
                toast(n.sealing ? 'New content is encrypted from now on' : 'New content is kept plain from now on'),
            });
          }}
        >
          {b.sealing ? 'on' : 'off'}: new content is {b.tierSeals ? 'encrypted by its tier' : `kept ${to}`}
        </Switch>
        <div className="row">
          <button
            type="button"
            className="btn"
            disabled={turn.isPending || rehearse.isPending}
            onClick={() => rehearse.mutate(undefined, { onSuccess: setFound })}
          >
            See what is stored otherwise
          </button>
          {found?.counts.converted ? (
            <button
              type="button"
              className="btn main"
              disabled={convert.isPending}
              onClick={() =>
                convert.mutate(undefined, {
                  onSuccess: () => {
                    setFound(null);
                    toast('The conversion is under way');
                  },
                })
              }
            >
              Write {things(found.counts.converted, 'object')} anew, {size(found.bytes)}
            </button>
          ) : null}
        </div>
        {found ? (
          <p className="small dim">
            {found.counts.converted
              ? `${things(found.counts.converted, 'object')} with all versions would be written anew, ${to}; digests stay as they are.`
              : `All that is stored is ${to} already.`}
          </p>
        ) : null}
        {turn.error || rehearse.error || convert.error ? (
          <Complaint error={turn.error ?? rehearse.error ?? convert.error} />
        ) : null}
      </div>
    </Section>
  );
}
