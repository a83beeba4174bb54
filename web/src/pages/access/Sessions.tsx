import { api, ask } from '../../api/client';
import { useSessions } from '../../data/access';
import { useChange } from '../../data/queries';
import { Trouble, When } from '../../parts/Bits';
import { State } from '../../parts/Marks';
import { useToast } from '../../parts/Toasts';
import { More } from './parts';

/** Who is signed in, from where; and out with them. */
export default function Sessions() {
  const toast = useToast();
  const list = useSessions();
  const end = useChange((id: number) => ask(api.DELETE('/api/v1/sessions/{id}', { params: { path: { id } } })));
  if (list.error && !list.data) return <Trouble error={list.error} />;
  return (
    <>
      {end.error ? <Trouble error={end.error} /> : null}
      <table>
        <thead>
          <tr>
            <th>Who</th>
            <th>Account</th>
            <th>Since</th>
            <th>Seen</th>
            <th>From</th>
            <th>Program</th>
            <th />
          </tr>
        </thead>
        <tbody>
          {(list.data?.pages.flatMap((p) => p.sessions) ?? []).map((s) => (
            <tr key={s.id}>
              <td className={s.kind === 'key' ? 'key' : 'strong'}>{s.who}</td>
              <td className="dim">{s.account}</td>
              <td className="dim">
                <When at={s.created} />
              </td>
              <td className="dim">
                <When at={s.seen} />
              </td>
              <td className="dim">{s.source}</td>
              <td className="dim cut max-w-320" title={s.program}>{s.program}</td>
              <td className="num">
                {s.own ? (
                  <State kind="good">this one</State>
                ) : (
                  <button type="button" className="btn low" onClick={() => end.mutate(s.id, { onSuccess: () => toast(`The session of ${s.who} has ended`) })}>
                    End
                  </button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <More list={list} />
    </>
  );
}
