import type { Sync } from '../../data/sync';
import { When } from '../../parts/Bits';
import { Fact, Facts } from '../../parts/Facts';
import { things } from '../../parts/format';

/** What a job says. */
export function JobFacts({ d }: { d: Sync }) {
  return (
    <Facts>
      <Fact name="From">
        <span className="key wrap-any">{d.from}</span>
      </Fact>
      <Fact name="To">
        <span className="key wrap-any">{d.to}</span>
      </Fact>
      <Fact name="Mode">{d.mode}</Fact>
      <Fact name="Schedule">
        {d.schedule ? (
          <>
            <span className="key">{d.schedule}</span>, {d.zone || 'UTC'}
          </>
        ) : (
          'by hand'
        )}
      </Fact>
      <Fact name="Next">{d.next && d.on ? <When at={d.next} /> : null}</Fact>
      <Fact name="Compared by">{d.by}</Fact>
      <Fact name="Seals">
        {d.sealing === 'none' ? null : d.sealing === 'names' ? 'contents and names' : 'contents'}
      </Fact>
      <Fact name="Restores">{d.restores}</Fact>
      <Fact name="At most">{d.bandwidth?.length ? <span className="key">{d.bandwidth.join('; ')}</span> : null}</Fact>
      <Fact name="Where">{d.where ? <span className="key wrap-any">{d.where}</span> : null}</Fact>
      <Fact name="Takes in">{d.like?.length ? <span className="key">{d.like.join(' ')}</span> : null}</Fact>
      <Fact name="Leaves out">{d.leaveOut?.length ? <span className="key">{d.leaveOut.join(' ')}</span> : null}</Fact>
      <Fact name="Asks above">
        {d.guardShare} % of the target, or {things(d.guardMost, 'object')}
      </Fact>
      <Fact name="Runs as">{d.changedBy}</Fact>
      <Fact name="Note">{d.note}</Fact>
    </Facts>
  );
}
