import { Shape } from '../../parts/Marks';
import { size, things } from '../../parts/format';
import { type Version } from './history';

export const Sum = ({ versions, more }: { versions: Version[]; more: boolean }) => {
  const kept = versions.filter((v) => !v.marker);
  const previous = kept.filter((v) => !v.latest);
  return (
    <>
      {things(kept.length, 'version')}
      {more ? ' read, older ones follow' : ''}, {size(kept.reduce((n, v) => n + v.size, 0))} in all
      {previous.length ? `, ${size(previous.reduce((n, v) => n + v.size, 0))} of it previous` : ''}
    </>
  );
};

export const Legend = () => (
  <span className="row gap-14">
    <span className="state run">
      <Shape kind="good" size={10} /> current
    </span>
    <span className="state past">
      <Shape kind="past" size={10} /> previous
    </span>
    <span className="state">
      <Shape kind="gone" size={10} /> delete marker
    </span>
    <span className="state">
      <Shape kind="rename" size={10} /> renamed
    </span>
    <span className="state faint">| metadata changed</span>
  </span>
);
