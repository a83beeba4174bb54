import { api, ask } from '../../api/client';
import { type Jump } from '../../data/clock';
import { useChange } from '../../data/queries';
import { Field, When } from '../../parts/Bits';
import { Ask } from '../../parts/Form';
import { useToast } from '../../parts/Toasts';
import { useFields } from '../../parts/useFields';

/** Says that the clock is right after a jump, and since when it was wrong before. */
export function RightDialog({ jump, by, onClose }: { jump: Jump; by: string; onClose: () => void }) {
  const toast = useToast();
  const [f, , fields] = useFields({ wrongSince: '' });
  const right = useChange(() =>
    ask(
      api.POST('/api/v1/clock/jumps/{jump}/right', {
        params: { path: { jump: jump.id } },
        body: f.wrongSince.trim() ? { wrongSince: f.wrongSince.trim() } : {},
      }),
    ),
  );
  return (
    <Ask
      title="The clock is right"
      act="It is right: let the rules act"
      busy={right.isPending}
      error={right.error}
      onClose={onClose}
      onAct={() =>
        right.mutate(undefined, {
          onSuccess: (c) => {
            toast(c.waits ? 'Another jump still waits for you' : 'Rules that act by age go on');
            onClose();
          },
        })
      }
    >
      <p className="mb-14">
        The clock jumped {by}, from <When at={jump.from} /> to <When at={jump.to} />. Check it on the database’s machine
        first: what is said here cannot be taken back.
      </p>
      <Field
        label="Wrong since"
        {...fields(right.error)('wrongSince')}
        placeholder="2026-11-20 14:00"
        hint={
          <>
            As the clock told it then. What was written before is as old as it seems. Left empty, the age of everything
            that was written since <When at={jump.since} /> is counted from the jump.
          </>
        }
      />
    </Ask>
  );
}
