import { useState } from 'react';

import { type Schemas, api, ask } from '../../api/client';
import { useChange } from '../../data/queries';
import { Complaint, Size } from '../../parts/Bits';
import { Dialog } from '../../parts/Dialog';
import { Shape } from '../../parts/Marks';
import { useToast } from '../../parts/Toasts';
import { middle, size, things, visible } from '../../parts/format';
import { TypeCount } from '../../parts/TypeCount';

export type Row = Schemas['UploadInfo'];

export function Abandon({ uploads, onClose, onDone }: { uploads: Row[]; onClose: () => void; onDone: () => void }) {
  const toast = useToast();
  const [typed, setTyped] = useState('');
  const bytes = uploads.reduce((n, u) => n + u.bytes, 0);
  const act = useChange(() =>
    ask(
      api.POST('/api/v1/uploads/abandon', {
        body: { uploads: uploads.map((u) => ({ bucket: u.bucket, key: u.key, id: u.id })) },
      }),
    ),
  );
  const ready = uploads.length === 1 || typed.trim() === String(uploads.length);
  return (
    <Dialog
      open
      onClose={onClose}
      title={`Abandon ${things(uploads.length, 'upload')}?`}
      footer={
        <>
          <button type="button" className="btn" autoFocus onClick={onClose}>
            Keep
          </button>
          <button
            type="button"
            className="btn harm solid"
            disabled={!ready || act.isPending}
            onClick={() =>
              act.mutate(undefined, {
                onSuccess: (q) => {
                  toast(`Abandoned ${things(q.objects, 'upload')}; ${size(q.bytes)} will be freed`);
                  onDone();
                },
              })
            }
          >
            Abandon {things(uploads.length, 'upload')}
          </button>
        </>
      }
    >
      <table className="tight mb-12">
        <tbody>
          {uploads.slice(0, 6).map((u) => (
            <tr key={u.id}>
              <td className="key">{middle(visible(`${u.bucket}/${u.key}`), 46)}</td>
              <td className="num">
                <Size bytes={u.bytes} />
              </td>
            </tr>
          ))}
          {uploads.length > 6 ? (
            <tr>
              <td className="faint">and {uploads.length - 6} more</td>
              <td />
            </tr>
          ) : null}
          <tr className="total">
            <td>
              In all,{' '}
              {things(
                uploads.reduce((n, u) => n + u.parts, 0),
                'part',
              )}
            </td>
            <td className="num">
              <Size bytes={bytes} />
            </td>
          </tr>
        </tbody>
      </table>
      <p className="row items-baseline">
        <span className="warn">
          <Shape kind="warn" size={11} />
        </span>
        <span>
          What was sent is gone; whoever is still sending starts anew. Objects that are there are not touched.
        </span>
      </p>
      {uploads.length > 1 ? <TypeCount n={uploads.length} of="uploads" typed={typed} onType={setTyped} /> : null}
      {act.error ? <Complaint error={act.error} /> : null}
    </Dialog>
  );
}
