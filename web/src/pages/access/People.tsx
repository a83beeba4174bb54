import { useState } from 'react';

import { type Schemas } from '../../api/client';
import { usePeople } from '../../data/access';
import { Trouble, When } from '../../parts/Bits';
import { State } from '../../parts/Marks';
import { More } from '../../parts/Listing';
import { Actions, Secret } from './parts';
import { ChangePerson, MakePerson, type Person, says } from './PersonForms';
import { unreadable } from '../../data/queries';

export default function People() {
  const list = usePeople();
  const [making, setMaking] = useState(false);
  const [open, setOpen] = useState<Person | null>(null);
  const [fresh, setFresh] = useState<Schemas['PersonSecret'] | null>(null);
  const people = list.data?.pages.flatMap((p) => p.people) ?? [];
  const show = (p: Schemas['PersonSecret']) => {
    setMaking(false);
    setOpen(null);
    setFresh(p);
  };
  if (unreadable(list)) return <Trouble error={list.error} />;
  return (
    <>
      <Actions>
        <button type="button" className="btn main" onClick={() => setMaking(true)}>
          Let somebody sign in
        </button>
      </Actions>
      {list.data && !people.length ? (
        <div className="empty">
          <b className="strong">Nobody signs in with a name yet.</b>
          <p className="dim">
            People sign in here with a name and a password, and have a role in one or more accounts. Applications have
            keys instead.
          </p>
        </div>
      ) : (
        <table>
          <thead>
            <tr>
              <th>Person</th>
              <th>Roles</th>
              <th>State</th>
              <th>Signed in</th>
              <th>Note</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {people.map((p) => (
              <tr key={p.name}>
                <td className="strong">{p.name}</td>
                <td>{says(p)}</td>
                <td>
                  {!p.active ? (
                    <State kind="off">off</State>
                  ) : p.locked ? (
                    <State kind="warn">locked for a while</State>
                  ) : p.mustChange ? (
                    <State kind="wait">new password due</State>
                  ) : (
                    <State kind="good">active</State>
                  )}
                </td>
                <td className="dim">{p.signedIn ? <When at={p.signedIn} /> : 'never'}</td>
                <td className="dim cut max-w-220" title={p.note}>
                  {p.note}
                </td>
                <td className="num">
                  <button type="button" className="btn low" onClick={() => setOpen(p)}>
                    Change
                  </button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <More list={list} />
      {making ? <MakePerson onClose={() => setMaking(false)} onMade={show} /> : null}
      {open ? <ChangePerson p={open} onClose={() => setOpen(null)} onFresh={show} /> : null}
      {fresh ? (
        <Secret
          title={`The password of ${fresh.person.name}`}
          file="sign-in.txt"
          onClose={() => setFresh(null)}
          says="The password is shown this once. It is changed at the first sign-in."
          facts={[
            ['Address', location.origin],
            ['Name', fresh.person.name],
            ['Password', fresh.password ?? ''],
          ]}
        />
      ) : null}
    </>
  );
}
