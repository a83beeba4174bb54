import { useState } from 'react';

import { type Schemas, api, ask } from '../api/client';
import { useChange, useOrders } from '../data/queries';
import { type Upload, useUploads } from '../data/uploads';
import { Ply } from './Bits';
import { Dialog } from './Dialog';
import { State } from './Marks';
import { count, middle, size, things, visible } from './format';

const doing: Record<string, string> = {
  rename: 'Renaming',
  restore: 'Restoring',
  convert: 'Converting',
  found: 'Acting on what was found in',
  place: 'Placing',
  check: 'Checking',
};

/** The line below every page while work is under way, and after it until one has seen the result. */
export function WorkLine() {
  const uploads = useUploads();
  const [open, setOpen] = useState(false);
  const orders = useOrders();
  const [seen, setSeen] = useState<ReadonlySet<string>>(new Set());
  const list = uploads.list;
  // What runs, what stopped, and what ended while one was here.
  const began = useState(() => Date.now())[0];
  const told = (orders.data ?? []).filter(
    (o) =>
      o.state === 'running' ||
      (!seen.has(`${o.id} ${o.state}`) && (o.state === 'stopped' || Date.parse(o.changed) > began)),
  );
  const order = told.find((o) => o.state === 'running') ?? told[0];
  if (list.length === 0)
    return order ? (
      <footer className="workline">
        <OrderLine
          o={order}
          more={told.length - 1}
          onSeen={() => setSeen(new Set([...seen, `${order.id} ${order.state}`]))}
        />
      </footer>
    ) : null;
  const active = list.filter((u) => u.state === 'sending' || u.state === 'waiting');
  const asks = list.filter((u) => u.state === 'there' || u.state === 'failed' || u.state === 'paused');
  const sending = list.find((u) => u.state === 'sending');
  const total = list.reduce((n, u) => n + u.size, 0);
  const sent = list.reduce((n, u) => n + (u.state === 'done' ? u.size : u.sent), 0);
  const rate = list.filter((u) => u.state === 'sending').reduce((n, u) => n + u.rate, 0);
  const done = list.filter((u) => u.state === 'done').length;
  return (
    <footer className="workline">
      <div className="grow max-w-640">
        {active.length ? (
          <State kind="run">
            Uploading {done + 1} of {list.length}
          </State>
        ) : asks.length ? (
          <State kind="warn">{things(asks.length, 'upload asks', 'uploads ask')}</State>
        ) : (
          <State kind="good">{things(done, 'file')} uploaded</State>
        )}
        {sending ? (
          <span className="key cut max-w-190">{middle(visible(sending.key.split('/').pop() ?? ''), 26)}</span>
        ) : null}
        <Ply
          share={total ? sent / total : 1}
          tone={active.length ? '' : asks.length ? 'is-stop' : 'is-good'}
          label="Uploads"
        />
        <span className="dim">
          {size(sent)} of {size(total)}
          {active.length && rate > 0 ? ` · ${size(rate)}/s · ${left((total - sent) / rate)}` : ''}
        </span>
      </div>
      {order ? (
        <OrderLine
          o={order}
          more={told.length - 1}
          onSeen={() => setSeen(new Set([...seen, `${order.id} ${order.state}`]))}
        />
      ) : null}
      <div className="ml-auto gap-14">
        <button type="button" className="link" onClick={() => setOpen(true)}>
          {active.length ? `${active.length} under way` : 'Show'}
        </button>
        {!active.length ? (
          <button type="button" className="link" onClick={uploads.forget}>
            Clear
          </button>
        ) : null}
      </div>
      {open ? (
        <Dialog
          open
          onClose={() => setOpen(false)}
          title="Uploads"
          width={720}
          footer={
            <button type="button" className="btn" onClick={() => setOpen(false)}>
              Close
            </button>
          }
        >
          <table className="tight">
            <tbody>
              {list.map((u) => (
                <Row key={u.id} u={u} />
              ))}
            </tbody>
          </table>
        </Dialog>
      ) : null}
    </footer>
  );
}

const orderWords: Record<string, [Parameters<typeof State>[0]['kind'], string]> = {
  running: ['run', ''],
  stopped: ['off', ', stopped'],
  done: ['good', ', completed'],
  failed: ['wrong', ', failed'],
};

/** A rename or restore of a prefix that the service does. */
function OrderLine({ o, more, onSeen }: { o: Schemas['OrderInfo']; more: number; onSeen: () => void }) {
  const turn = useChange((verb: 'stop' | 'resume') =>
    ask(
      verb === 'stop'
        ? api.POST('/api/v1/orders/{id}/stop', { params: { path: { id: o.id } } })
        : api.POST('/api/v1/orders/{id}/resume', { params: { path: { id: o.id } } }),
    ),
  );
  const [kind, word] = orderWords[o.state] ?? ['none', o.state];
  return (
    <div className="grow max-w-640">
      <State kind={kind}>
        {doing[o.kind] ?? 'Working on'}
        {word}
      </State>
      <span className="key cut max-w-220" title={visible(`${o.bucket}/${o.prefix}`)}>
        {middle(visible(`${o.bucket}/${o.prefix}`), 28)}
      </span>
      <Ply
        share={o.total ? o.done / o.total : 1}
        tone={o.state === 'done' ? 'is-good' : o.state === 'running' ? '' : 'is-stop'}
        label={o.kind}
      />
      <span className="dim cut" title={o.problem}>
        {count(o.done)} of {count(o.total)}
        {o.problem ? ` · ${o.problem}` : ''}
        {more > 0 ? ` · ${more} more` : ''}
      </span>
      {o.state === 'running' ? (
        <button type="button" className="link" onClick={() => turn.mutate('stop')}>
          Stop
        </button>
      ) : o.state === 'done' ? null : (
        <button type="button" className="link" onClick={() => turn.mutate('resume')}>
          Go on
        </button>
      )}
      {o.state === 'running' ? null : (
        <button type="button" className="link" onClick={onSeen}>
          Clear
        </button>
      )}
    </div>
  );
}

const left = (s: number) => (s < 90 ? `${Math.ceil(s)} s left` : `${Math.ceil(s / 60)} min left`);

const words: Record<Upload['state'], [Parameters<typeof State>[0]['kind'], string]> = {
  waiting: ['wait', 'waiting'],
  sending: ['run', 'uploading'],
  done: ['good', 'completed'],
  failed: ['wrong', 'failed'],
  there: ['warn', 'asks'],
  stopped: ['off', 'stopped'],
  paused: ['off', 'paused'],
};

/** One upload, in the dialog and in the bucket's table. */
function Row({ u }: { u: Upload }) {
  const uploads = useUploads();
  const [kind, word] = words[u.state];
  return (
    <tr>
      <td>
        <State kind={kind}>{word}</State>
      </td>
      <td className="key" title={visible(u.key)}>
        {middle(visible(`${u.bucket}/${u.key}`), 44)}
        {u.message ? <div className="small dim whitespace-normal">{u.message}</div> : null}
      </td>
      <td className="num">
        {u.sent && u.state !== 'done' ? `${size(u.sent)} of ` : ''}
        {size(u.size)}
      </td>
      <td className="num">
        {u.state === 'sending' || u.state === 'waiting' ? (
          <button type="button" className="link" onClick={() => uploads.stop(u.id)}>
            {u.parted ? 'Pause' : 'Stop'}
          </button>
        ) : u.state === 'there' ? (
          <button type="button" className="link" onClick={() => uploads.again(u.id, true)}>
            Replace it
          </button>
        ) : u.state === 'paused' && !u.file ? (
          <label className="link cursor-pointer">
            Choose the file
            <input
              type="file"
              hidden
              onChange={(e) => e.target.files?.[0] && uploads.again(u.id, u.replace, e.target.files[0])}
            />
          </label>
        ) : u.state === 'paused' ? (
          <button type="button" className="link" onClick={() => uploads.again(u.id, u.replace)}>
            Go on
          </button>
        ) : u.state === 'failed' || u.state === 'stopped' ? (
          <button type="button" className="link" onClick={() => uploads.again(u.id, u.replace)}>
            Try again
          </button>
        ) : null}
        {u.parted && u.state !== 'done' && u.state !== 'sending' ? (
          <>
            {' '}
            <button type="button" className="link" onClick={() => uploads.abandon(u.id)}>
              Abandon
            </button>
          </>
        ) : null}
      </td>
    </tr>
  );
}
