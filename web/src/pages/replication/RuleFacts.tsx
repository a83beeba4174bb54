import type { Replication, Target } from '../../data/replication';
import { Size, When } from '../../parts/Bits';
import { Fact, Facts } from '../../parts/Facts';
import { State } from '../../parts/Marks';
import { things } from '../../parts/format';
import { endpointShape, ruleShape, since, span } from './states';

/** How a target of a rule stands. */
export function TargetFacts({ rule, t }: { rule: Replication; t: Target }) {
  const left = t.doneIn ?? 0;
  return (
    <Facts>
      <Fact name="Target">
        <span className="key wrap-any">{t.address}</span>
      </Fact>
      <Fact name="State">
        <State kind={ruleShape[t.state] ?? 'none'}>{t.state}</State>
        {t.why && !t.failing ? <span className="dim">: {t.why}</span> : null}
      </Fact>
      {t.failing ? (
        <Fact name="Fails">
          <When at={t.failing.since} />: {t.failing.says}
        </Fact>
      ) : null}
      {t.health ? (
        <Fact name="Endpoint">
          <State kind={endpointShape[t.health.state] ?? 'wait'}>
            {t.health.state}, {t.health.latency.toFixed(0)} ms
          </State>
        </Fact>
      ) : null}
      <Fact name="Waiting">
        {things(t.waiting, 'object')}, <Size bytes={t.bytes} />
        {t.failed ? <span className="dim">, {t.failed} failed so far</span> : null}
      </Fact>
      <Fact name="Oldest">
        {t.oldest ? (
          <>
            {since(t.oldest)} <span className="dim">since</span> <When at={t.oldest} />
          </>
        ) : null}
      </Fact>
      <Fact name="Next try">{t.next ? <When at={t.next} /> : null}</Fact>
      <Fact name="Rate">
        {t.rate ? (
          <>
            <Size bytes={t.rate} />
            /s{left ? <span className="dim">, done in {span(left)}</span> : null}
          </>
        ) : null}
      </Fact>
      <Fact name="Lag, last hour">
        {t.lag.count ? (
          <>
            half below {span(t.lag.p50)}, 99 % below {span(t.lag.p99)}{' '}
            <span className="dim">of {things(t.lag.count, 'change')}</span>
          </>
        ) : (
          <span className="faint">nothing changed</span>
        )}
      </Fact>
      {rule.lagTarget ? (
        <Fact name="Lag target">
          <State kind={t.lag.met ? 'good' : 'warn'}>
            {+rule.lagTarget.percent.toFixed(3)} % in {span(rule.lagTarget.seconds)}:{' '}
            {t.lag.met ? 'met' : `missed, ${(Math.floor(t.lag.within * 100) / 100).toFixed(2)} %`}
          </State>
        </Fact>
      ) : null}
      {t.backfill ? (
        <Fact name="Backfill">
          {t.backfill.state}, {things(t.backfill.asked, 'object')} found
        </Fact>
      ) : null}
      <Fact name="Verified">
        {t.verified ? <When at={t.verified} /> : <span className="faint">never found equal yet</span>}
      </Fact>
    </Facts>
  );
}
