import { api, ask } from '../../api/client';
import { useChange } from '../../data/queries';
import { Field } from '../../parts/Bits';
import { Ask } from '../../parts/Form';
import { useToast } from '../../parts/Toasts';
import { useFields } from '../../parts/useFields';

export function RegionForm({ onClose }: { onClose: () => void }) {
  const toast = useToast();
  const [f, , fields] = useFields({ desk: '', key: '', secret: '', note: '' });
  const add = useChange(() => ask(api.POST('/api/v1/regions', { body: f })));
  const of = fields(add.error);
  return (
    <Ask
      title="Add a region"
      act="Ask it, and add it"
      busy={add.isPending}
      ready={!!f.desk && !!f.key && !!f.secret}
      error={add.error}
      onClose={onClose}
      onAct={() =>
        add.mutate(undefined, {
          onSuccess: (r) => {
            toast(`The region ${r.name} is known`);
            onClose();
          },
        })
      }
    >
      <Field
        label="Address of its console"
        mono
        {...of('desk')}
        placeholder="https://desk.moor.example"
        autoFocus
        hint="What it is called, and where its clients reach it, is asked of it."
      />
      <Field label="Id of an operator’s key there" mono {...of('key')} />
      <Field label="Its secret" type="password" {...of('secret')} />
      <Field label="What it is" {...of('note')} />
    </Ask>
  );
}
