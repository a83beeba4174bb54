import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';

import { type Schemas, api, ask } from '../../api/client';
import { useChange } from '../../data/queries';
import { Complaint, Field, Section, When } from '../../parts/Bits';
import { Fact, Facts } from '../../parts/Facts';
import { Switch } from '../../parts/Switch';
import { useToast } from '../../parts/Toasts';
import { size, things } from '../../parts/format';
import { still } from '../../data/keys';

type Change = { days?: number; paused?: boolean };

/** How changes of objects are kept on record, and what they occupy. */
export function JournalKept({ b }: { b: Schemas['BucketInfo'] }) {
  const toast = useToast();
  const [typed, setTyped] = useState<string | null>(null);
  const days = Number(typed);
  const good = typed !== null && Number.isInteger(days) && days >= 0 && days <= 36_500;
  const kept = useJournal(b, good ? days : 0);
  const change = useChange((journal: Change) =>
    ask(
      api.PATCH('/api/v1/buckets/{bucket}', {
        params: { path: { bucket: b.name } },
        body: { journal, ifRevision: b.revision },
      }),
    ),
  );
  const j = kept.data;
  if (!j) return null;
  const going = good && days > 0 ? (j.going ?? 0) : 0;
  return (
    <Section title="Journal">
      <div className="pt-12 grid gap-10">
        <Switch
          on={!j.paused}
          disabled={change.isPending}
          onChange={(on) =>
            change.mutate(
              { paused: !on },
              { onSuccess: () => toast(on ? 'Changes are recorded again' : 'Changes are not recorded from now on') },
            )
          }
        >
          {j.paused ? 'paused: changes of objects are not recorded' : 'on: changes of objects are recorded'}
        </Switch>
        <Facts>
          <Fact name="Occupies">
            {j.about ? 'about ' : ''}
            {size(j.bytes)}, {things(j.entries, 'entry', 'entries')}
          </Fact>
          <Fact name="Oldest">{j.first ? <When at={j.first} /> : null}</Fact>
          <Fact name="Left out">
            {j.gaps.length ? (
              <span className="grid">
                {j.gaps.slice(0, 4).map((g) => (
                  <Gap key={g.since ?? ''} gap={g} />
                ))}
              </span>
            ) : null}
          </Fact>
        </Facts>
        <form
          className="grid gap-10"
          onSubmit={(e) => {
            e.preventDefault();
            change.mutate(
              { days },
              {
                onSuccess: () => {
                  setTyped(null);
                  toast(days ? `The journal is kept ${things(days, 'day')}` : "The journal is kept as the service's");
                },
              },
            );
          }}
        >
          <Field
            label="Days that entries are kept, at least; 0 for as long as the service keeps its journal"
            value={typed ?? String(j.days)}
            onChange={(e) => setTyped(e.target.value)}
            inputMode="numeric"
            name="journalDays"
          />
          {going ? (
            <p className="small bad">{things(going, 'entry', 'entries')} older than that would go for good.</p>
          ) : null}
          {change.error ? <Complaint error={change.error} /> : null}
          <div>
            <button
              type="submit"
              className={`btn ${going ? 'harm' : 'main'}`}
              disabled={!good || days === j.days || change.isPending || kept.isFetching}
            >
              {going ? 'Save, and let them go' : 'Save'}
            </button>
          </div>
        </form>
      </div>
    </Section>
  );
}

const useJournal = (b: Schemas['BucketInfo'], days: number) =>
  useQuery({
    queryKey: still('bucket-journal', b.name, b.revision, days),
    queryFn: () =>
      ask(api.GET('/api/v1/buckets/{bucket}/journal', { params: { path: { bucket: b.name }, query: { days } } })),
    placeholderData: (before) => before,
  });

const Gap = ({ gap }: { gap: Schemas['JournalGap'] }) => (
  <span>
    {gap.since ? <When at={gap.since} /> : 'the beginning'} to {gap.until ? <When at={gap.until} /> : 'now'}
  </span>
);
