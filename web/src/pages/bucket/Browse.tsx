import { ToggleGroup } from 'radix-ui';
import { type DragEvent, useEffect, useRef, useState } from 'react';
import { createPortal } from 'react-dom';
import { useSearchParams } from 'react-router';

import { useListing } from '../../data/queries';
import { useUploads } from '../../data/uploads';
import { Trouble } from '../../parts/Bits';
import { Shape, icons } from '../../parts/Marks';
import { RemoveDialog } from '../../parts/RemoveDialog';
import { longDate, visible } from '../../parts/format';
import { AsOf, Crumbs } from './Crumbs';
import { RestoreDialog } from './RestoreDialog';
import { Rows } from './Rows';
import { Selection } from './Selection';
import { Tree } from './Tree';
import { filesOf } from './drop';

/** Browsing a bucket: prefixes as folders or flat, with search, choice, upload by drop. */
export function Browse({ bucket, places }: { bucket: string; places?: string[] }) {
  const [query, setQuery] = useSearchParams();
  const typed = query.get('prefix') ?? '';
  const flat = query.get('flat') === '1';
  const asOf = query.get('asof') ?? '';
  // What follows the last slash is a search within the folder.
  const folder = typed.slice(0, typed.lastIndexOf('/') + 1);
  const search = typed.slice(folder.length);
  const listing = useListing(bucket, typed, flat, asOf);
  const uploads = useUploads();
  const rights = listing.data?.pages[0]?.rights ?? [];
  const writes = rights.includes('write') && !asOf;
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const [removing, setRemoving] = useState(false);
  const [restoring, setRestoring] = useState(false);
  const [over, setOver] = useState(false);
  const picker = useRef<HTMLInputElement>(null);
  useEffect(() => setChosen(new Set()), [bucket, typed, flat, asOf]);

  // What is typed goes to the address a moment later: no letter is lost to a page being read.
  const [begins, setBegins] = useState(search);
  useEffect(() => setBegins(search), [search]);
  useEffect(() => {
    if (begins === search) return;
    const wait = setTimeout(() => set(folder + begins), 180);
    return () => clearTimeout(wait);
  });

  const set = (prefix: string, f = flat) =>
    setQuery(
      (q) => {
        if (prefix) q.set('prefix', prefix);
        else q.delete('prefix');
        if (f) q.set('flat', '1');
        else q.delete('flat');
        return q;
      },
      { replace: true },
    );
  const setAsOf = (moment: string) =>
    setQuery((q) => {
      if (moment) q.set('asof', moment);
      else q.delete('asof');
      return q;
    });
  const drop = async (e: DragEvent) => {
    e.preventDefault();
    setOver(false);
    if (!writes) return;
    uploads.add(bucket, folder, await filesOf(e.dataTransfer));
  };
  const removal = {
    bucket,
    keys: [...chosen].filter((c) => c.startsWith('k')).map((c) => c.slice(1)),
    prefixes: [...chosen].filter((c) => c.startsWith('p')).map((c) => c.slice(1)),
  };

  return (
    <div className="columns grid grid-cols-[206px_minmax(0,1fr)] gap-y-0 gap-x-22">
      <Actions>
        <input
          ref={picker}
          type="file"
          multiple
          hidden
          onChange={(e) => {
            uploads.add(
              bucket,
              folder,
              [...(e.target.files ?? [])].map((file) => ({ name: file.name, file })),
            );
            e.target.value = '';
          }}
        />
        <button
          type="button"
          className="btn main"
          disabled={!writes}
          title={writes || asOf ? undefined : 'Writing here is not open to you'}
          onClick={() => picker.current?.click()}
        >
          {icons.up} Upload
        </button>
      </Actions>
      <aside className="border-r border-r-hairline pr-14">
        <div className="small faint leading-26 border-b border-b-ink-3 mb-3">Prefixes</div>
        <Tree bucket={bucket} at={folder} asOf={asOf} places={places} />
      </aside>
      <section
        className={`droppable ${over ? 'over' : ''}`}
        data-drop={`Put into ${bucket}/${folder}`}
        onDragOver={(e) => {
          e.preventDefault();
          setOver(writes);
        }}
        onDragLeave={(e) => e.currentTarget === e.target && setOver(false)}
        onDrop={(e) => void drop(e)}
      >
        <div className="row h-30 mb-9">
          <Crumbs bucket={bucket} folder={folder} asOf={asOf} />
          <span className="field mono grow ml-6 max-w-230">
            <input
              value={begins}
              onChange={(e) => setBegins(e.target.value)}
              aria-label="Keys that begin with"
              placeholder="begins with"
            />
            <span className="hint small">prefix</span>
          </span>
          <ToggleGroup.Root
            type="single"
            className="seg"
            value={flat ? 'flat' : 'folders'}
            onValueChange={(v) => v && set(typed, v === 'flat')}
            aria-label="How keys are shown"
          >
            <ToggleGroup.Item value="folders">Folders</ToggleGroup.Item>
            <ToggleGroup.Item value="flat">Flat</ToggleGroup.Item>
          </ToggleGroup.Root>
          <AsOf moment={asOf} onChange={setAsOf} />
        </div>
        {asOf ? (
          <div className="note past row mb-9 flex-wrap" role="status">
            <Shape kind="past" size={12} />
            <span className="grow">
              <b className="strong">This is the past.</b> {bucket}/{visible(folder)} as it stood on{' '}
              {longDate(new Date(asOf))}.
            </span>
            <button
              type="button"
              className="btn low"
              disabled={!rights.includes('write') || !rights.includes('remove')}
              onClick={() => setRestoring(true)}
            >
              Restore {folder ? 'this prefix' : 'the bucket'} to this moment
            </button>
            <button type="button" className="btn low" onClick={() => setAsOf('')}>
              Back to now
            </button>
          </div>
        ) : null}
        {listing.error ? <Trouble error={listing.error} /> : null}
        {chosen.size && !asOf ? (
          <Selection
            bucket={bucket}
            pages={listing.data?.pages ?? []}
            chosen={chosen}
            onClear={() => setChosen(new Set())}
            onRemove={rights.includes('remove') ? () => setRemoving(true) : undefined}
          />
        ) : null}
        {listing.data ? (
          <Rows
            bucket={bucket}
            folder={flat ? '' : folder}
            listing={listing}
            chosen={chosen}
            onChoose={setChosen}
            onRemove={() => !asOf && rights.includes('remove') && setRemoving(true)}
            search={search}
            asOf={asOf}
          />
        ) : null}
      </section>
      {removing ? (
        <RemoveDialog
          what={removal}
          onClose={() => setRemoving(false)}
          onDone={() => {
            setRemoving(false);
            setChosen(new Set());
          }}
        />
      ) : null}
      {restoring ? (
        <RestoreDialog
          bucket={bucket}
          prefix={folder}
          asOf={asOf}
          onClose={() => setRestoring(false)}
          onStarted={() => {
            setRestoring(false);
            setAsOf('');
          }}
        />
      ) : null}
    </div>
  );
}

/** Puts buttons into the page's head. */
function Actions({ children }: { children: React.ReactNode }) {
  const [place, setPlace] = useState<HTMLElement | null>(null);
  useEffect(() => setPlace(document.getElementById('bucket-actions')), []);
  return place ? createPortal(children, place) : null;
}
