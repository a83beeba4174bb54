import { type Schemas, api, ask } from '../../api/client';
import { usePastRules } from '../../data/lifecycle';
import { useChange } from '../../data/queries';
import { Complaint, Trouble, When } from '../../parts/Bits';
import { Dialog } from '../../parts/Dialog';
import { More } from '../../parts/Listing';
import { useToast } from '../../parts/Toasts';
import { things } from '../../parts/format';

type State = Schemas['PastRulesInfo'];

/** How a state of the rules differs from the one before it. */
function differences(now: State, before?: State): string[] {
  const was = new Map((before?.rules ?? []).map((r) => [r.name, JSON.stringify(r)]));
  const is = new Map(now.rules.map((r) => [r.name, JSON.stringify(r)]));
  return [
    ...now.rules.filter((r) => !was.has(r.name)).map((r) => `+ ${r.name}`),
    ...now.rules.filter((r) => was.has(r.name) && was.get(r.name) !== is.get(r.name)).map((r) => `changed ${r.name}`),
    ...(before?.rules ?? []).filter((r) => !is.has(r.name)).map((r) => `− ${r.name}`),
  ];
}

/** The states that the rules had; each can be put back in one step. */
export function History({ bucket, may, onClose }: { bucket: string; may: boolean; onClose: () => void }) {
  const toast = useToast();
  const past = usePastRules(bucket, true);
  const back = useChange((revision: number) =>
    ask(
      api.POST('/api/v1/buckets/{bucket}/lifecycle/history/{revision}', {
        params: { path: { bucket, revision } },
        body: {},
      }),
    ),
  );
  const list = past.data?.pages.flatMap((p) => p.history) ?? [];
  return (
    <Dialog
      open
      onClose={onClose}
      title="Earlier forms of the rules"
      width={680}
      footer={
        <button type="button" className="btn" onClick={onClose}>
          Close
        </button>
      }
    >
      {past.error ? <Trouble error={past.error} /> : null}
      {back.error ? <Complaint error={back.error} /> : null}
      {list.map((s, i) => (
        <div key={s.revision} className="row items-start py-8 border-b border-b-hairline">
          <span className="num faint w-30">{s.revision}</span>
          <span className="grow">
            {s.what} <span className="faint">by {s.by},</span> <When at={s.at} />
            <span className="small dim block">
              {things(s.rules.length, 'rule')}
              {differences(s, list[i + 1]).map((d) => (
                <span key={d}>; {d}</span>
              ))}
            </span>
          </span>
          {may && i > 0 ? (
            <button
              type="button"
              className="btn low"
              disabled={back.isPending}
              onClick={() =>
                back.mutate(s.revision, {
                  onSuccess: () => {
                    toast(`Revision ${s.revision} is in force again`);
                    onClose();
                  },
                })
              }
            >
              Put back
            </button>
          ) : null}
        </div>
      ))}
      <More list={past} />
    </Dialog>
  );
}
