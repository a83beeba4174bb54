import { useQuery } from '@tanstack/react-query';

import { api, ask } from '../../api/client';
import { Complaint } from '../../parts/Bits';
import { Dialog } from '../../parts/Dialog';
import { still } from '../../data/keys';

/** What to do when everything here is gone, to print or save. */
export function Sheet({ sync, onClose }: { sync: string; onClose: () => void }) {
  const sheet = useQuery({
    queryKey: still('sync-sheet', sync),
    queryFn: () => ask(api.GET('/api/v1/syncs/{sync}/sheet', { params: { path: { sync } } })),
  });
  const text = sheet.data?.text ?? '';
  const save = () => {
    const at = URL.createObjectURL(new Blob([text], { type: 'text/plain' }));
    const link = document.createElement('a');
    link.href = at;
    link.download = `recovery-sheet-${sync}.txt`;
    link.click();
    URL.revokeObjectURL(at);
  };
  return (
    <Dialog
      open
      onClose={onClose}
      title="The recovery sheet"
      width={760}
      footer={
        <>
          <button type="button" className="btn" onClick={onClose}>
            Close
          </button>
          <button type="button" className="btn" onClick={() => window.print()} disabled={!text}>
            Print
          </button>
          <button type="button" className="btn main" onClick={save} disabled={!text}>
            Save as a file
          </button>
        </>
      }
    >
      {sheet.error ? <Complaint error={sheet.error} /> : null}
      <pre className="block printed">{text}</pre>
    </Dialog>
  );
}
