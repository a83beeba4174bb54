import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';

import { api, ask } from '../../api/client';
import { useKeys } from '../../data/access';
import { useAdministers, useSession } from '../../data/session';
import { useCopy } from '../../parts/Bits';
import { Ask, Choice } from '../../parts/Form';
import { figure } from '../../parts/format';

interface Props {
  bucket: string;
  name: string; // the object's key
  onClose: () => void;
}

/** Whether what a key is limited to, a bucket or BUCKET/PREFIX, has an object in it. */
const covers = (limit: string, bucket: string, name: string) =>
  limit === bucket || (limit.startsWith(`${bucket}/`) && name.startsWith(limit.slice(bucket.length + 1)));

/** A link that opens the object for a while, signed by a key: one's own, or one of the account's that may read it. */
export function LinkDialog({ bucket, name, onClose }: Props) {
  const session = useSession();
  const administers = useAdministers();
  const copy = useCopy();
  const keys = useKeys(session.account, administers);
  const [seconds, setSeconds] = useState('3600');
  const [chosen, setChosen] = useState('');
  const ends = Date.now() + 1000 * figure(seconds);
  const list = (administers ? (keys.data?.pages.flatMap((p) => p.keys) ?? []) : []).filter(
    (k) =>
      k.state === 'active' &&
      (!k.limits.length || k.limits.some((l) => covers(l, bucket, name))) &&
      (!k.expires || new Date(k.expires).getTime() > ends),
  );
  const own: [string, string][] = session.key ? [[session.key, `${session.name}, which is signed in`]] : [];
  const options = [
    ...own,
    ...list.filter((k) => k.id !== session.key).map((k): [string, string] => [k.id, `${k.name} (${k.role})`]),
  ];
  const key = chosen || options[0]?.[0] || '';
  const make = useMutation({
    mutationFn: () =>
      ask(
        api.POST('/api/v1/buckets/{bucket}/link', {
          params: { path: { bucket } },
          body: { key: name, seconds: figure(String(seconds)), with: key },
        }),
      ),
  });
  return (
    <Ask
      title="Make a link"
      act="Make and copy it"
      busy={make.isPending}
      ready={!!key}
      error={make.error}
      onClose={onClose}
      onAct={() => make.mutate(undefined, { onSuccess: (l) => void copy(l.url, 'The link').then(onClose) })}
    >
      <p className="small dim">
        Whoever has the link reads the object until it ends. It works no longer than the key that signs it, and reaches
        no more.
      </p>
      <div className="grid grid-cols-[1fr_1fr] gap-12">
        <Choice
          label="It holds for"
          value={seconds}
          onChange={setSeconds}
          options={[
            ['600', '10 minutes'],
            ['3600', '1 hour'],
            ['86400', '1 day'],
            ['604800', '7 days'],
          ]}
        />
        <Choice
          label="Signed by"
          value={key}
          onChange={setChosen}
          options={options.length ? options : [['', 'no key']]}
          hint={
            options.length
              ? undefined
              : 'No key that you may use reads this object for so long. An administrator of the account makes one.'
          }
        />
      </div>
    </Ask>
  );
}
