import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';

import { type Schemas, api, ask } from '../../api/client';
import { useChange } from '../../data/queries';
import { Trouble, When } from '../../parts/Bits';
import { Confirm } from '../../parts/Form';
import { Listing } from '../../parts/Listing';
import { State } from '../../parts/Marks';
import { useToast } from '../../parts/Toasts';
import { count, visible } from '../../parts/format';
import { Secret } from '../access/parts';
import { PostForm } from './PostForm';
import { still } from '../../data/keys';
import { whole } from '../../data/whole';

type Post = Schemas['PostInfo'];

const usePosts = () =>
  useQuery({
    queryKey: still('posts'),
    queryFn: () =>
      whole(
        (query) => ask(api.GET('/api/v1/journal/posts', { params: { query } })),
        (p) => p.posts,
      ),
    placeholderData: (d) => d,
    refetchInterval: 5_000, // what arrives there leaves no trace in the journal
  });

/** The addresses outside to which changes are posted. */
export default function Posts() {
  const posts = usePosts();
  const [adding, setAdding] = useState(false);
  const [fresh, setFresh] = useState<Post | null>(null);
  const [leaving, setLeaving] = useState<Post | null>(null);
  return (
    <>
      <div className="pagehead">
        <div>
          <h1>Posted elsewhere</h1>
          <p className="meta">
            <Link to="/journal">Journal</Link>
            <span>Other programs act on changes: in order, each at least once, signed</span>
          </p>
        </div>
        <button type="button" className="btn main" onClick={() => setAdding(true)}>
          Post to an address
        </button>
      </div>
      {posts.error ? <Trouble error={posts.error} /> : null}
      <Listing
        rows={posts.data ?? []}
        id={(p) => p.name}
        empty={
          <div className="empty">
            <b className="strong">Changes are posted nowhere.</b>
            <p className="dim">An address gets what changes from the moment on at which it is added here.</p>
          </div>
        }
        columns={[
          { head: 'Name', cell: (p) => <b className="strong">{p.name}</b> },
          { head: 'Address', cell: (p) => visible(p.url), className: 'key cut max-w-300' },
          { head: 'Gets', cell: gets, className: 'dim' },
          { head: 'State', cell: (p) => <Standing p={p} /> },
          { head: 'Arrived', cell: (p) => count(p.sent), className: 'num' },
          { head: 'To go', cell: (p) => count(p.behind), className: 'num' },
          { head: 'Last', cell: (p) => (p.posted ? <When at={p.posted} /> : 'never'), className: 'dim' },
          { cell: (p) => <Acts p={p} onLeave={() => setLeaving(p)} /> },
        ]}
      />
      {adding ? (
        <PostForm
          onClose={() => setAdding(false)}
          onFresh={(p) => {
            setAdding(false);
            setFresh(p);
          }}
        />
      ) : null}
      {fresh ? (
        <Secret
          title={`What is posted to ${fresh.name}`}
          file={`${fresh.name}.txt`}
          onClose={() => setFresh(null)}
          says="The secret is shown this once. With it the program there makes sure that what it gets is from here."
          facts={[
            ['Address', fresh.url],
            ['Secret', fresh.secret ?? ''],
          ]}
        />
      ) : null}
      {leaving ? <Leave p={leaving} onClose={() => setLeaving(null)} /> : null}
    </>
  );
}

const gets = (p: Post) =>
  [p.kinds?.join(', ') || 'all changes', p.bucket ? `of ${p.bucket}${p.prefix ? `/${visible(p.prefix)}` : ''}` : '']
    .filter(Boolean)
    .join(' ');

function Standing({ p }: { p: Post }) {
  if (!p.on) return <State kind="none">paused</State>;
  if (p.failed)
    return (
      <span title={p.problem}>
        <State kind="wrong">failed {count(p.failed)} times</State>
      </span>
    );
  return <State kind="good">{p.behind ? 'posting' : 'keeps up'}</State>;
}

function Acts({ p, onLeave }: { p: Post; onLeave: () => void }) {
  const toast = useToast();
  const path = { post: p.name };
  const turn = useChange(() =>
    ask(api.PATCH('/api/v1/journal/posts/{post}', { params: { path }, body: { on: !p.on } })),
  );
  const again = useChange(() => ask(api.POST('/api/v1/journal/posts/{post}/try', { params: { path } })));
  return (
    <span className="row gap-10">
      <button
        type="button"
        className="link"
        disabled={again.isPending}
        onClick={() =>
          again.mutate(undefined, {
            onSuccess: () => toast(`${p.name} took an event that tells of nothing`),
            onError: (e) => toast(e.message),
          })
        }
      >
        Try
      </button>
      <button
        type="button"
        className="link"
        disabled={turn.isPending}
        onClick={() => turn.mutate(undefined, { onSuccess: (n) => toast(`${n.name} is ${n.on ? 'on' : 'paused'}`) })}
      >
        {p.on ? 'Pause' : 'Go on'}
      </button>
      <button type="button" className="link" onClick={onLeave}>
        Remove
      </button>
    </span>
  );
}

function Leave({ p, onClose }: { p: Post; onClose: () => void }) {
  return (
    <Confirm
      title={`Post no more to ${p.name}`}
      act="Remove a post"
      done={`Nothing more is posted to ${p.name}`}
      run={() => ask(api.DELETE('/api/v1/journal/posts/{post}', { params: { path: { post: p.name } } }))}
      onClose={onClose}
    >
      <p>
        What <span className="key">{visible(p.url)}</span> has not had by now, {count(p.behind)} entries, it never gets.
      </p>
    </Confirm>
  );
}
