import { Link } from 'react-router';

import type { Schemas } from '../../api/client';
import { Listing } from '../../parts/Listing';
import { bucketPage, visible } from '../../parts/format';

/** Buckets of other accounts that are open to who looks. */
export const Opened = ({ list }: { list: Schemas['OpenBucket'][] }) => (
  <Listing
    className="tight mb-14"
    rows={list}
    id={(b) => b.bucket}
    columns={[
      {
        head: 'Bucket',
        cell: (b) => (
          <Link className="plain key" to={bucketPage(b.bucket, b.places?.[0])}>
            {b.bucket}
          </Link>
        ),
      },
      { head: 'Owner', cell: (b) => b.account, className: 'dim' },
      {
        head: 'What you may do',
        cell: (b) => (b.places?.length ? `beneath ${b.places.map(visible).join(', ')}` : b.rights.join(', ')),
      },
    ]}
  />
);
