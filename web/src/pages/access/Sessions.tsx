import { api, ask } from '../../api/client';
import { useSessions } from '../../data/access';
import { useChange, unreadable } from '../../data/queries';
import { Trouble, When } from '../../parts/Bits';
import { State } from '../../parts/Marks';
import { useToast } from '../../parts/Toasts';
import { Listing } from '../../parts/Listing';

/** Who is signed in, from where; and out with them. */
export default function Sessions() {
  const toast = useToast();
  const list = useSessions();
  const end = useChange((id: number) => ask(api.DELETE('/api/v1/sessions/{id}', { params: { path: { id } } })));
  if (unreadable(list)) return <Trouble error={list.error} />;
  return (
    <>
      {end.error ? <Trouble error={end.error} /> : null}
      <Listing
        rows={list.data?.pages.flatMap((p) => p.sessions) ?? []}
        id={(s) => s.id}
        list={list}
        columns={[
          { head: 'Who', cell: (s) => <span className={s.kind === 'key' ? 'key' : 'strong'}>{s.who}</span> },
          { head: 'Account', cell: (s) => s.account, className: 'dim' },
          { head: 'Since', cell: (s) => <When at={s.created} />, className: 'dim' },
          { head: 'Seen', cell: (s) => <When at={s.seen} />, className: 'dim' },
          { head: 'From', cell: (s) => s.source, className: 'dim' },
          { head: 'Program', cell: (s) => s.program, className: 'dim cut max-w-320', title: (s) => s.program },
          {
            figure: true,
            cell: (s) =>
              s.own ? (
                <State kind="good">this one</State>
              ) : (
                <button
                  type="button"
                  className="btn low"
                  onClick={() => end.mutate(s.id, { onSuccess: () => toast(`The session of ${s.who} has ended`) })}
                >
                  End
                </button>
              ),
          },
        ]}
      />
    </>
  );
}
