import { useState } from 'react';

import { type Schemas, bodyAddress } from '../../api/client';
import { icons } from '../../parts/Marks';
import { size, things } from '../../parts/format';
import { LinkDialog } from '../object/LinkDialog';

interface Props {
  bucket: string;
  pages: Schemas['ObjectPage'][];
  chosen: ReadonlySet<string>;
  onClear: () => void;
  onRemove?: () => void; // absent for who may not
}

/** What is chosen, and what can be done with it. */
export function Selection({ bucket, pages, chosen, onClear, onRemove }: Props) {
  const objects = pages.flatMap((p) => p.objects).filter((o) => chosen.has('k' + o.key));
  const prefixes = chosen.size - objects.length;
  const bytes = objects.reduce((n, o) => n + o.size, 0);
  const download = () =>
    objects.forEach((o, i) =>
      setTimeout(() => {
        const a = document.createElement('a');
        a.href = bodyAddress(bucket, o.key);
        a.download = '';
        a.click();
      }, i * 300),
    );
  const [linking, setLinking] = useState(false);
  return (
    <div className="row bg-woad-wash h-36 pt-0 pr-6 pb-0 pl-10 mb-2 border-l-3 border-l-woad">
      <b className="strong">{chosen.size} selected</b>
      <span className="dim">
        {[
          objects.length ? size(bytes) : '',
          prefixes ? things(prefixes, 'prefix', 'prefixes') + ' with all beneath' : '',
        ]
          .filter(Boolean)
          .join(', ')}
      </span>
      <span className="row ml-auto">
        {objects.length > 0 && objects.length <= 20 && prefixes === 0 ? (
          <button type="button" className="btn low" onClick={download}>
            {icons.down} Download
          </button>
        ) : null}
        {objects.length === 1 && prefixes === 0 ? (
          <button type="button" className="btn low" onClick={() => setLinking(true)}>
            {icons.copy} Link
          </button>
        ) : null}
        {onRemove ? (
          <button type="button" className="btn low harm" onClick={onRemove}>
            Remove
          </button>
        ) : null}
        <button type="button" className="btn low bare" onClick={onClear}>
          Clear
        </button>
      </span>
      {linking ? <LinkDialog bucket={bucket} name={objects[0]?.key ?? ''} onClose={() => setLinking(false)} /> : null}
    </div>
  );
}
