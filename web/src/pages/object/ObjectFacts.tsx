import { type Schemas, api, ask } from '../../api/client';
import { useChange } from '../../data/queries';
import { CopyMark, Section, Size, When } from '../../parts/Bits';
import { Fact, Facts } from '../../parts/Facts';
import { useToast } from '../../parts/Toasts';
import { ago, count, middle, size, visible } from '../../parts/format';

type Info = Schemas['ObjectInfo'];

export function ObjectFacts({ o, bucket }: { o: Info; bucket: string }) {
  const extra: [string, string | undefined][] = [
    ['Cache', o.headers?.['cache-control']],
    ['Disposition', o.headers?.['content-disposition']],
    ['Encoding', o.headers?.['content-encoding']],
    ['Language', o.headers?.['content-language']],
    ['Expires', o.headers?.expires],
  ];
  return (
    <Section title="Facts">
      <Facts>
        <Fact name="Size">
          <Size bytes={o.size} /> <span className="faint small">{count(o.size)} bytes</span>
        </Fact>
        <Fact name="Type" className="key cut" title={visible(o.contentType)}>
          {visible(o.contentType) || <span className="faint">none</span>}
        </Fact>
        <Fact name="Written">
          <When at={o.created} /> <span className="faint small">{ago(new Date(o.created))} ago</span>
        </Fact>
        <Fact name="By key" className="key">
          {o.createdBy}
        </Fact>
        <Fact name="Tier">{o.tier}</Fact>
        <Fact name="Arrived">{o.arrived}</Fact>
        <Fact name="Kept">
          {o.kept}
          {o.sealed ? ', encrypted' : ''} <CheckNow bucket={bucket} name={o.key} />
        </Fact>
        {extra.map(([name, v]) => (
          <Fact key={name} name={name} className="key wrap-any">
            {v && visible(v)}
          </Fact>
        ))}
        <Fact name="Address" className="key nowrap" title={visible(`${bucket}/${o.key}`)}>
          {middle(visible(`${bucket}/${o.key}`), 22)}
          <CopyMark text={`${bucket}/${o.key}`} what="address" />
        </Fact>
      </Facts>
    </Section>
  );
}

export function Digests({ o, bucket }: { o: Info; bucket: string }) {
  return (
    <Section title="Digests" aside="of the whole content">
      <Facts>
        {o.digests.map((d) => (
          <Fact key={d.kind} name={d.kind} className="key nowrap" title={d.value}>
            {middle(d.value, 24)}
            <CopyMark text={d.value} what={d.kind} />
          </Fact>
        ))}
        <Fact name="ETag" className="key nowrap" title={o.etag}>
          {middle(o.etag, 24)}
          <CopyMark text={o.etag} what="ETag" />
        </Fact>
      </Facts>
      <p className="small dim mt-8">
        Computed on arrival, and compared with what the client claimed if it claimed one; the scrubber reads the bytes
        again in its rounds. To read it with the same check:
      </p>
      <pre className="block mt-6">{`spindle object get \\\n  '${visible(`${bucket}/${o.key}`)}'`}</pre>
    </Section>
  );
}

/** Has the stored bytes read now, and says what came of it. */
function CheckNow({ bucket, name }: { bucket: string; name: string }) {
  const toast = useToast();
  const check = useChange(async () => {
    let o = await ask(api.POST('/api/v1/orders', { body: { kind: 'check', bucket, prefix: name } }));
    while (o.state === 'running') {
      await new Promise((done) => setTimeout(done, 300));
      o = await ask(api.GET('/api/v1/orders/{id}', { params: { path: { id: o.id } } }));
    }
    return o;
  });
  return (
    <button
      type="button"
      className="btn low"
      disabled={check.isPending}
      title="Read the stored bytes, of all versions, and compare their digests"
      onClick={() =>
        check.mutate(undefined, {
          onSuccess: (o) =>
            toast(
              o.state !== 'done'
                ? `The check stopped: ${o.problem ?? o.state}`
                : o.counts.damaged
                  ? 'It is damaged: the overview says with what it could be mended'
                  : `Its bytes are sound: ${size(o.bytes)} read`,
            ),
          onError: (e) => toast(e.message),
        })
      }
    >
      {check.isPending ? 'Checking' : 'Check now'}
    </button>
  );
}
