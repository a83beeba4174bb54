import type { Schemas } from '../../api/client';
import type { Tier } from '../../data/lifecycle';
import { Field, Section, sentence } from '../../parts/Bits';
import { Shape } from '../../parts/Marks';
import { Switch } from '../../parts/Switch';
import { things } from '../../parts/format';
import { WhereField } from '../../parts/WhereField';
import { fieldsOf } from '../../parts/useFields';
import type { Line } from './draft';

export interface ScopeText {
  prefix: string;
  like: string;
  leaveOut: string;
  tags: string;
  sizeFrom: string;
  where: string;
}

type Complaint = Schemas['Complaint'];

/** The complaint about a field of the form, as a field shows it. */
const complaint = (list: Complaint[], field: string) => {
  const c = list.find((x) => x.field === field || x.field?.startsWith(`${field}[`));
  return c ? { message: c.detail, remedy: c.remedy } : undefined;
};

export function ScopeFields({
  scope,
  onChange,
  complaints,
  matched,
}: {
  scope: ScopeText;
  onChange: (s: ScopeText) => void;
  complaints: Complaint[];
  matched?: string;
}) {
  const of = fieldsOf(
    scope,
    (change) => onChange({ ...scope, ...change }),
    (name) => complaint(complaints, `scope.${name}`),
  );
  return (
    <Section title="Scope" end={<span className="faint">{matched}</span>}>
      <div className="grid grid-cols-[1fr_1fr] gap-12 pt-10">
        <Field label="Prefix, literal" mono {...of('prefix')} placeholder="all keys" />
        <Field label="Only keys like" mono {...of('like')} placeholder="*.tif" />
        <Field label="Leave out keys like" mono {...of('leaveOut')} placeholder="*-label.txt" />
        <Field label="Tags, all of" mono {...of('tags')} placeholder="checked = yes" />
        <Field label="Size at least" {...of('sizeFrom', 'sizeTo')} placeholder="any" />
      </div>
      <WhereField className="mt-10" {...of('where')} />
    </Section>
  );
}

const groups: [Line['of'], string, string][] = [
  ['current', 'Current version', 'age from its writing'],
  ['previous', 'Previous versions', 'age from being replaced'],
  ['markers', 'Idle delete markers', 'age from making'],
  ['uploads', 'Unfinished uploads', 'age from start'],
];

interface LinesProps {
  lines: Line[];
  tiers: Tier[];
  versioning: string;
  onChange: (lines: Line[]) => void;
  complaints: Complaint[];
}

/** What a rule does, group by group; complaints stand beside what they are about. */
export function ActionLines({ lines, tiers, versioning, onChange, complaints }: LinesProps) {
  const place = new Map(lines.filter((l) => l.on).map((l, i) => [l.id, i]));
  const change = (id: string, with_: Partial<Line>) =>
    onChange(lines.map((l) => (l.id === id ? { ...l, ...with_ } : l)));
  return groups.map(([of, title, age]) => (
    <Section key={of} title={title} end={<span className="faint">{age}</span>}>
      {lines
        .filter((l) => l.of === of)
        .map((l) => (
          <ActionLine
            key={l.id}
            line={l}
            note={noteOf(l, tiers, versioning)}
            complaints={complaints.filter((c) => c.field?.startsWith(`actions[${place.get(l.id)}].`))}
            onChange={(x) => change(l.id, x)}
          />
        ))}
    </Section>
  ));
}

function noteOf(l: Line, tiers: Tier[], versioning: string) {
  if (l.do === 'move') {
    const t = tiers.find((x) => x.name === l.to);
    return [t?.note, t?.restore ? 'restored before it is read' : ''].filter(Boolean).join('; ');
  }
  if (l.of === 'current')
    return versioning === 'on' ? 'it becomes a previous version' : 'for good: the bucket keeps no versions';
  return l.of === 'previous' ? 'for good' : '';
}

const names: Record<string, string> = { move: 'Move to', remove: 'Remove' };

function ActionLine({
  line,
  note,
  complaints,
  onChange,
}: {
  line: Line;
  note: string;
  complaints: Complaint[];
  onChange: (x: Partial<Line>) => void;
}) {
  const name = line.of === 'uploads' ? 'Abandon' : names[line.do]!;
  const label = `${name} ${line.to ?? ''}`.trim();
  return (
    <div className="grid grid-cols-[minmax(0,1fr)_auto] gap-y-2 gap-x-12 items-start py-8 border-b border-b-hairline">
      <Switch on={line.on} onChange={(on) => onChange({ on })}>
        <span className={line.do === 'remove' ? 'text-madder' : ''}>
          {name} {line.to ? <b className="strong">{line.to}</b> : null}
        </span>
      </Switch>
      <span className="row gap-6">
        <span className={`field w-86 ${complaints.length ? 'bad' : ''}`}>
          <input
            aria-label={`${label}: days of age, or a date`}
            className="num"
            value={line.when}
            disabled={!line.on}
            onChange={(e) => onChange({ when: e.target.value })}
          />
        </span>
        <span className="faint w-8">{line.when.includes('-') ? '' : 'd'}</span>
      </span>
      {note ? <span className="small faint col-span-2 pl-36">{note}</span> : null}
      {line.on && line.of === 'previous' && line.do === 'remove' ? (
        <label className="row gap-6 small dim col-span-2 pl-36">
          but keep the newest
          <span className="field w-56">
            <input
              className="num"
              value={line.keep}
              onChange={(e) => onChange({ keep: e.target.value })}
              placeholder="0"
            />
          </span>
          of each key
        </label>
      ) : null}
      {complaints.map((c, i) => (
        <p key={i} className="complaint col-span-2" role="alert">
          <Shape kind="wrong" size={11} />
          <span className="wrap-any">
            {sentence(c.detail)} {c.remedy ? sentence(c.remedy) : ''}
            {c.code === 'move-dearer' ? (
              <button type="button" className="btn low ml-8" onClick={() => onChange({ dearer: true })}>
                It may be dearer
              </button>
            ) : null}
          </span>
        </p>
      ))}
    </div>
  );
}

export const matchedText = (bars: Schemas['AgeBar'][] | undefined) => {
  if (!bars) return '';
  const sum = (previous: boolean) => bars.filter((b) => b.previous === previous).reduce((n, b) => n + b.objects, 0);
  return `${things(sum(false), 'object')}, ${things(sum(true), 'previous version')}`;
};
