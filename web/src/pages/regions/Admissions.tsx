import { api, ask } from '../../api/client';
import { useAccounts } from '../../data/access';
import { useChange } from '../../data/queries';
import { type Region } from '../../data/regions';
import { Complaint, Section } from '../../parts/Bits';
import { Check } from '../../parts/Check';
import { Listing } from '../../parts/Listing';
import { Select } from '../../parts/Select';

/** Which accounts may make buckets in which region, and where they do by default. */
export function Admissions({ regions }: { regions: Region[] }) {
  const accounts = useAccounts().data?.pages.flatMap((p) => p.accounts) ?? [];
  const own = regions.find((r) => r.own)?.name ?? '';
  const admit = useChange((c: { region: string; account: string; admitted: boolean }) =>
    ask(
      api.PUT('/api/v1/regions/{region}/accounts/{account}', {
        params: { path: { region: c.region, account: c.account } },
        body: { admitted: c.admitted },
      }),
    ),
  );
  const settle = useChange((c: { account: string; region: string }) =>
    ask(
      api.PATCH('/api/v1/accounts/{account}', {
        params: { path: { account: c.account } },
        body: { region: c.region },
      }),
    ),
  );
  return (
    <div className="mt-22">
      <Section title="Admission" aside="where accounts may make buckets; those they have stay">
        {admit.error || settle.error ? <Complaint error={admit.error ?? settle.error} /> : null}
        <Listing
          rows={accounts}
          id={(a) => a.name}
          columns={[
            { head: 'Account', cell: (a) => <b className="strong">{a.name}</b> },
            ...regions.map((r) => ({
              head: r.name,
              cell: (a: (typeof accounts)[number]) => {
                const admitted = (r.accounts ?? []).includes(a.name);
                return (
                  <Check
                    on={admitted}
                    onChange={(on) => admit.mutate({ region: r.name, account: a.name, admitted: on })}
                    label={`${a.name} is admitted to ${r.name}`}
                  >
                    {admitted ? 'admitted' : <span className="faint">not admitted</span>}
                  </Check>
                );
              },
            })),
            {
              head: 'By default in',
              cell: (a: (typeof accounts)[number]) => (
                <Select
                  label={`Where buckets of ${a.name} are made by default`}
                  className="field sel w-170"
                  value={a.region || own}
                  onChange={(region) => settle.mutate({ account: a.name, region })}
                  options={regions.map((r) => [r.name, r.name] as const)}
                />
              ),
            },
          ]}
        />
      </Section>
    </div>
  );
}
