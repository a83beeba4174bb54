/** Has the number of what goes be typed, before it goes. */
export function TypeCount({
  n,
  of,
  typed,
  onType,
}: {
  n: number;
  of: string;
  typed: string;
  onType: (typed: string) => void;
}) {
  return (
    <label className="row mt-12">
      Type <b className="strong">{n}</b> to go on
      <span className="field short">
        <input
          value={typed}
          onChange={(e) => onType(e.target.value)}
          inputMode="numeric"
          aria-label={`The number of ${of}`}
          className="num"
        />
      </span>
    </label>
  );
}
