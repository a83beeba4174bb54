import { useState } from 'react';

import type { Schemas } from '../../api/client';
import { useKeys } from '../../data/access';
import { useSession } from '../../data/session';
import { Trouble, When } from '../../parts/Bits';
import { State, type StateKind } from '../../parts/Marks';
import { Listing } from '../../parts/Listing';
import { Actions, Secret } from './parts';
import { ChangeKey } from './ChangeKey';
import { MakeKey } from './MakeKey';
import { unreadable } from '../../data/queries';

type Key = Schemas['KeyInfo'];
type Fresh = Schemas['KeySecret'];

const states: Record<string, StateKind> = { active: 'good', off: 'off', expired: 'wait', replaced: 'past' };

export default function Keys() {
  const session = useSession();
  const list = useKeys('');
  const [making, setMaking] = useState(false);
  const [fresh, setFresh] = useState<Fresh | null>(null);
  const [open, setOpen] = useState<Key | null>(null);
  const keys = list.data?.pages.flatMap((p) => p.keys) ?? [];
  if (unreadable(list)) return <Trouble error={list.error} />;
  return (
    <>
      <Actions>
        <button type="button" className="btn main" onClick={() => setMaking(true)}>
          Make a key
        </button>
      </Actions>
      <Listing
        rows={keys}
        id={(k) => k.id}
        list={list}
        columns={[
          { head: 'Application', cell: (k) => k.name, className: 'strong', title: (k) => k.note },
          { head: 'Key', cell: (k) => k.id, className: 'key' },
          { head: 'Account', cell: (k) => k.account, className: 'dim' },
          { head: 'Role', cell: (k) => (k.operator ? 'operator' : k.role) },
          {
            head: 'Reaches',
            cell: (k) => (k.limits.length ? k.limits.join(', ') : <span className="faint">all of the account</span>),
            className: 'cut key max-w-190',
            title: (k) => k.limits.join(', '),
          },
          { head: 'State', cell: (k) => <State kind={states[k.state] ?? 'none'}>{k.state}</State> },
          { head: 'Expires', cell: (k) => (k.expires ? <When at={k.expires} /> : 'never'), className: 'dim' },
          {
            head: 'Last used',
            cell: (k) =>
              k.used ? (
                <>
                  <When at={k.used} /> <span className="faint">{k.usedFrom}</span>
                </>
              ) : (
                'never'
              ),
            className: 'dim',
          },
          {
            figure: true,
            cell: (k) =>
              k.operator && !session.operator ? null : (
                <button type="button" className="btn low" onClick={() => setOpen(k)}>
                  Change
                </button>
              ),
          },
        ]}
      />
      {making ? (
        <MakeKey
          onClose={() => setMaking(false)}
          onMade={(k) => {
            setMaking(false);
            setFresh(k);
          }}
        />
      ) : null}
      {open ? (
        <ChangeKey
          k={open}
          onClose={() => setOpen(null)}
          onFresh={(k) => {
            setOpen(null);
            setFresh(k);
          }}
        />
      ) : null}
      {fresh ? (
        <Secret
          title={`The key of ${fresh.key.name}`}
          file={`${fresh.key.name}.txt`}
          onClose={() => setFresh(null)}
          says="The secret is shown this once. Whoever has it may do what the key may; nobody can look it up again."
          facts={[
            ['Address', location.origin],
            ['Key', fresh.key.id],
            ['Secret', fresh.secret ?? ''],
          ]}
        />
      ) : null}
    </>
  );
}
