import { api, ask } from '../../api/client';
import { useAccounts } from '../../data/access';
import { type Placement } from '../../data/placements';
import { useChange } from '../../data/queries';
import { Complaint, Section } from '../../parts/Bits';
import { Listing } from '../../parts/Listing';
import { Select } from '../../parts/Select';
import { Switch } from '../../parts/Switch';
import { useToast } from '../../parts/Toasts';

/** What buckets of each account get, and whether the account may choose. */
export function PlacementDefaults({ placements }: { placements: Placement[] }) {
  const toast = useToast();
  const accounts = useAccounts().data?.pages.flatMap((p) => p.accounts) ?? [];
  const change = useChange((c: { name: string; placement?: string; placementFixed?: boolean }) =>
    ask(
      api.PATCH('/api/v1/accounts/{account}', {
        params: { path: { account: c.name } },
        body: { placement: c.placement, placementFixed: c.placementFixed },
      }),
    ),
  );
  return (
    <div className="mt-22">
      <Section title="Accounts" aside="what their buckets have that name none, or all of them">
        {change.error ? <Complaint error={change.error} /> : null}
        <Listing
          rows={accounts}
          id={(a) => a.name}
          columns={[
            { head: 'Account', cell: (a) => <b className="strong">{a.name}</b> },
            {
              head: 'Buckets get',
              cell: (a) => (
                <Select
                  label={`What buckets of ${a.name} get`}
                  className="field sel w-240"
                  value={a.placement ?? ''}
                  onChange={(placement) =>
                    change.mutate(
                      {
                        name: a.name,
                        placement: placement || 'none',
                        placementFixed: placement ? a.placementFixed : false,
                      },
                      { onSuccess: () => toast(`Buckets of ${a.name} get ${placement || 'what they name'}`) },
                    )
                  }
                  options={[['', 'what they name'] as const, ...placements.map((p) => [p.name, p.name] as const)]}
                />
              ),
            },
            {
              head: 'Fixed',
              cell: (a) => (
                <Switch
                  on={a.placementFixed ?? false}
                  disabled={!a.placement || change.isPending}
                  onChange={(placementFixed) => change.mutate({ name: a.name, placementFixed })}
                >
                  {a.placementFixed ? `fixed by ${a.placementBy}` : 'the account may choose'}
                </Switch>
              ),
            },
          ]}
        />
      </Section>
    </div>
  );
}
