import { api, ask } from '../../api/client';
import { useChange } from '../../data/queries';
import { Size, When } from '../../parts/Bits';
import { Ask } from '../../parts/Form';
import { useToast } from '../../parts/Toasts';
import type { Version } from './history';

interface Props {
  bucket: string;
  objectKey: string;
  v: Version;
  before?: Version;
  onClose: () => void;
  onDone: () => void;
}

/** Asks before a version, or a delete marker, is removed for good. */
export function RemoveVersion({ bucket, objectKey, v, before, onClose, onDone }: Props) {
  const toast = useToast();
  const purge = useChange(() =>
    ask(
      api.POST('/api/v1/buckets/{bucket}/remove', {
        params: { path: { bucket } },
        body: { versions: [{ key: objectKey, version: v.version }] },
      }),
    ),
  );
  const done = () => {
    toast(`Removed version ${v.version}`);
    onDone();
  };
  return (
    <Ask
      title={v.marker ? 'Remove the delete marker?' : 'Remove this version for good?'}
      act="Remove it"
      harm
      busy={purge.isPending}
      error={purge.error}
      onAct={() => purge.mutate(undefined, { onSuccess: done })}
      onClose={onClose}
    >
      {v.marker ? (
        <p>
          {v.latest
            ? 'The object comes back as its latest version.'
            : 'It is one of several; the object stays as it is.'}
        </p>
      ) : (
        <p>
          Version <b className="key">{v.version}</b>, <Size bytes={v.size} />, written <When at={v.created} /> by {v.by}
          . It cannot be brought back.
          {v.latest && before && !before.marker ? ' The one before it becomes current.' : ''}
        </p>
      )}
    </Ask>
  );
}
