import { useState } from 'react';
import { useNavigate } from 'react-router';

import { api, ask } from '../../api/client';
import type { Census } from '../../data/census';
import { useChange } from '../../data/queries';
import { Field } from '../../parts/Bits';
import { Ask, Choice } from '../../parts/Form';
import { Switch } from '../../parts/Switch';
import { useToast } from '../../parts/Toasts';
import { useFields } from '../../parts/useFields';

const usual = 'bucket, key, version, state, size, changed, type, tier, etag, crc64, writer, fields, tags';

/** Adds a census, or changes one. */
export function CensusForm({ census, onClose }: { census?: Census; onClose: () => void }) {
  const navigate = useNavigate();
  const toast = useToast();
  const [f, set, fields] = useFields({
    name: census?.name ?? '',
    from: census?.from ?? '',
    to: census?.to ?? '',
    where: census?.where ?? '',
    columns: census?.columns.join(', ') ?? usual,
    format: census?.format ?? 'csv',
    schedule: census?.schedule ?? '',
    zone: census?.zone ?? Intl.DateTimeFormat().resolvedOptions().timeZone,
  });
  const [versions, setVersions] = useState(census?.versions ?? false);
  const body = {
    from: f.from.trim(),
    to: f.to.trim(),
    where: f.where.trim(),
    columns: f.columns
      .split(',')
      .map((c) => c.trim())
      .filter(Boolean),
    format: f.format,
    versions,
    schedule: f.schedule.trim(),
    zone: f.schedule.trim() ? f.zone : '',
  };
  const save = useChange(() =>
    census
      ? ask(
          api.PATCH('/api/v1/censuses/{census}', {
            params: { path: { census: census.name } },
            body: { ...body, ifRevision: census.revision },
          }),
        )
      : ask(api.POST('/api/v1/censuses', { body: { ...body, name: f.name } })),
  );
  const e = save.error;
  const of = fields(e);
  return (
    <Ask
      title={census ? `The census ${census.name}` : 'A new census'}
      act={census ? 'Save the census' : 'Write the first'}
      busy={save.isPending}
      ready={!!(f.name && f.to)}
      width={640}
      error={e}
      onClose={onClose}
      onAct={() =>
        save.mutate(undefined, {
          onSuccess: (c) => {
            toast(census ? `The census ${c.name} is saved` : `The first of ${c.name} is being written`);
            onClose();
            if (!census) void navigate(`/census/${c.name}`);
          },
        })
      }
    >
      {census ? null : <Field label="Name" {...of('name')} autoFocus />}
      <div className="grid grid-cols-[1fr_1fr] gap-12">
        <Field
          label="Lists"
          mono
          {...of('from')}
          placeholder="all buckets"
          hint="BUCKET or BUCKET/PREFIX; empty for all buckets of the account"
        />
        <Field
          label="Into"
          mono
          {...of('to')}
          placeholder="reports/census/"
          hint="BUCKET/PREFIX/ or @ENDPOINT/BUCKET/PREFIX/"
        />
      </div>
      <Field label="What is like this" mono {...of('where')} placeholder="everything, or such as size over 20 MiB" />
      <Switch on={versions} onChange={setVersions}>
        previous versions and delete markers too
      </Switch>
      <Field
        label="Columns"
        mono
        {...of('columns')}
        hint="With commas between them. Also: sealed, field NAME, tag NAME"
      />
      <div className="grid grid-cols-[1fr_1fr_1fr] gap-12">
        <Choice
          label="As"
          value={f.format}
          onChange={(v) => set({ format: v as Census['format'] })}
          options={[
            ['csv', 'CSV'],
            ['json', 'JSON lines'],
            ['parquet', 'Parquet'],
          ]}
        />
        <Field label="Schedule; empty: by hand" mono {...of('schedule')} placeholder="@weekly" />
        <Field label="Time zone" {...of('zone')} />
      </div>
    </Ask>
  );
}
