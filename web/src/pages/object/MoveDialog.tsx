import { type FormEvent, useState } from 'react';
import { useNavigate } from 'react-router';

import { Problem, api, ask } from '../../api/client';
import { useBucket, useChange } from '../../data/queries';
import { Complaint, Field } from '../../parts/Bits';
import { Dialog } from '../../parts/Dialog';
import { useToast } from '../../parts/Toasts';
import { objectPage, visible } from '../../parts/format';

interface Props {
  bucket: string;
  objectKey: string;
  version: string; // "" for the current one
  move: boolean;
  onClose: () => void;
}

/** Copies or renames an object to an address; asks before it replaces what is there. */
export function MoveDialog({ bucket, objectKey, version, move, onClose }: Props) {
  const navigate = useNavigate();
  const toast = useToast();
  const [to, setTo] = useState(`${bucket}/${objectKey}`);
  const at = to.indexOf('/');
  const target = { bucket: to.slice(0, at), key: to.slice(at + 1) };
  const taken = useBucket(target.bucket || bucket);
  const act = useChange((ifAbsent: boolean) =>
    ask(
      api.POST('/api/v1/buckets/{bucket}/copy', {
        params: { path: { bucket: target.bucket } },
        body: {
          fromBucket: bucket,
          fromKey: objectKey,
          fromVersion: version || undefined,
          key: target.key,
          move,
          ifAbsent,
        },
      }),
    ),
  );
  const problem = act.error instanceof Problem ? act.error : null;
  const exists = problem?.code === 'exists';
  const same = to === `${bucket}/${objectKey}`;
  const run = (ifAbsent: boolean) =>
    act.mutate(ifAbsent, {
      onSuccess: (o) => {
        toast(`${move ? 'Renamed' : 'Copied'} to ${visible(target.bucket + '/' + o.key)}; no bytes were moved`);
        onClose();
        void navigate(objectPage(target.bucket, o.key));
      },
    });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    if (at > 0 && !same) run(true);
  };
  return (
    <Dialog
      open
      onClose={onClose}
      title={move ? 'Rename the object' : 'Copy the object'}
      width={560}
      footer={
        <>
          <button type="button" className="btn" onClick={onClose}>
            Cancel
          </button>
          {exists ? (
            <button type="button" className="btn harm solid" onClick={() => run(false)} disabled={act.isPending}>
              Replace what is there
            </button>
          ) : (
            <button type="submit" form="move-object" className="btn main" disabled={at < 1 || same || act.isPending}>
              {move ? 'Rename' : 'Copy'}
            </button>
          )}
        </>
      }
    >
      <form id="move-object" onSubmit={submit}>
        <Field
          label="To the address"
          mono
          autoFocus
          value={to}
          onChange={(e) => {
            act.reset();
            setTo(e.target.value);
          }}
          error={problem && !exists ? problem : null}
          hint={
            move
              ? 'The history goes along: both names show it. No bytes are moved.'
              : 'Metadata and tags go along. No bytes are moved.'
          }
        />
        {exists ? (
          <Complaint
            error={
              new Problem(
                0,
                'An object is there already',
                'exists',
                'key',
                taken.data?.versioning === 'on'
                  ? 'Versioning is on: it would become a previous version'
                  : 'It would be gone for good',
              )
            }
          />
        ) : null}
      </form>
    </Dialog>
  );
}
