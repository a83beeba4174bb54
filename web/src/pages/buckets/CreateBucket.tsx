import { type FormEvent, useState } from 'react';
import { useNavigate } from 'react-router';

import { Problem, api, ask } from '../../api/client';
import { usePlacements } from '../../data/placements';
import { useChange } from '../../data/queries';
import { type Region, useRegions } from '../../data/regions';
import { useSession } from '../../data/session';
import { Complaint, Field } from '../../parts/Bits';
import { Dialog } from '../../parts/Dialog';
import { type Versioning, VersioningChoice } from '../../parts/Versioning';
import { Check } from '../../parts/Check';
import { Select } from '../../parts/Select';
import { bucketPage, parseSize } from '../../parts/format';
import { type Kept, PlacementChoice } from '../placements/PlacementChoice';

export function CreateBucket({ onClose }: { onClose: () => void }) {
  const navigate = useNavigate();
  const regions = useRegions().data ?? [];
  const [region, setRegion] = useState('');
  const into = regions.find((r) => (region ? r.name === region : r.default));
  const [name, setName] = useState('');
  const [quota, setQuota] = useState('');
  const [clean, setClean] = useState(true);
  const [sealing, setSealing] = useState(false);
  const account = useSession().account;
  const offered = usePlacements(account).data;
  const [chosen, setChosen] = useState<Kept | null>(null);
  const kept = chosen ?? { placement: offered?.default ?? '', tier: 'main' };
  const [versioning, setVersioning] = useState<Versioning>('on');
  const bytes = quota.trim() ? parseSize(quota) : undefined;
  const create = useChange(() =>
    ask(
      api.POST('/api/v1/buckets', {
        body: {
          name,
          versioning,
          sealing,
          abandonAfter: clean ? 7 : 0,
          ...(region ? { region } : {}),
          ...(into && !into.own
            ? {}
            : kept.placement
              ? { placement: kept.placement }
              : kept.tier !== 'main'
                ? { tier: kept.tier }
                : {}),
          ...(bytes ? { quota: bytes } : {}),
        },
      }),
    ),
  );
  const problem = create.error instanceof Problem ? create.error : null;
  const badSize =
    bytes === null ? new Problem(0, 'This is no size', 'size', 'quota', 'Give it as 400 MiB or 2 TiB') : null;
  const submit = (e: FormEvent) => {
    e.preventDefault();
    if (name && !badSize)
      create.mutate(undefined, {
        onSuccess: (b) => {
          if (b.console) window.location.assign(b.console + bucketPage(b.name));
          else void navigate(bucketPage(b.name));
        },
      });
  };
  return (
    <Dialog
      open
      onClose={onClose}
      title="Create a bucket"
      width={460}
      footer={
        <>
          <button type="button" className="btn" onClick={onClose}>
            Cancel
          </button>
          <button
            type="submit"
            form="create-bucket"
            className="btn main"
            disabled={!name || !!badSize || create.isPending}
          >
            Create
          </button>
        </>
      }
    >
      <form className="grid gap-12" id="create-bucket" onSubmit={submit}>
        <Field
          label="Name"
          mono
          value={name}
          onChange={(e) => setName(e.target.value)}
          autoFocus
          name="name"
          error={problem && problem.field !== 'quota' ? problem : null}
          hint="3 to 63 of a-z, 0-9, hyphens and dots. It cannot be changed later."
        />
        <Field
          label="Quota, if it should have one"
          value={quota}
          onChange={(e) => setQuota(e.target.value)}
          name="quota"
          placeholder="none"
          error={badSize ?? (problem?.field === 'quota' ? problem : null)}
          hint="The most bytes it may hold, for instance 400 MiB. It can be changed at any time."
        />
        <VersioningChoice value={versioning} onChange={setVersioning} states={['on', 'off']} />
        {!into || into.own ? <PlacementChoice account={account} value={kept} onChange={setChosen} /> : null}
        <Check on={clean} onChange={setClean} label="Abandon unfinished uploads after 7 days">
          Abandon unfinished uploads after 7 days{' '}
          <span className="small dim">They take room that no listing shows.</span>
        </Check>
        <Check on={sealing} onChange={setSealing} label="Encrypt content at rest">
          Encrypt content at rest{' '}
          <span className="small dim">The disk alone then tells nothing. Reading costs a little more.</span>
        </Check>
        <RegionChoice regions={regions} value={into?.name ?? ''} onChange={setRegion} />
        {problem && problem.field && !['bucket', 'quota'].includes(problem.field) ? (
          <Complaint error={problem} />
        ) : null}
      </form>
    </Dialog>
  );
}

/** A choice of the region, where there are several; says in which it is made otherwise. */
function RegionChoice({
  regions,
  value,
  onChange,
}: {
  regions: Region[];
  value: string;
  onChange: (r: string) => void;
}) {
  const chosen = regions.find((r) => r.name === value);
  if (regions.length < 2) return <p className="small dim">It is made in region {value}.</p>;
  return (
    <div>
      <label className="label" htmlFor="new-region">
        Region
      </label>
      <Select
        id="new-region"
        value={value}
        onChange={onChange}
        options={regions.map(
          (r) =>
            [
              r.name,
              `${r.name}${r.admitted ? '' : ': the account is not admitted'}${r.own ? ' (this one)' : ''}`,
            ] as const,
        )}
      />
      {chosen && !chosen.own ? (
        <p className="small dim mt-4">
          It is made by the service there, as its operator has buckets kept, and is looked after in its console.
        </p>
      ) : null}
    </div>
  );
}
