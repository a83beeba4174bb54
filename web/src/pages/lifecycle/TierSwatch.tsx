import type { Tier } from '../../data/lifecycle';

const fills = ['fill-[url(#tier-first)]', 'fill-walnut', 'fill-[url(#tier-third)]', 'fill-ink-2'];

/** How bars of a tier are filled: main in the accent, the others by falling price. */
export const tierFill = (tier: string, tiers: Tier[]) => {
  if (tier === 'main') return 'fill-woad';
  const others = tiers.filter((t) => t.name !== 'main').sort((a, b) => b.price - a.price || (a.name < b.name ? -1 : 1));
  const place = others.findIndex((t) => t.name === tier);
  return fills[Math.min(fills.length - 1, Math.max(0, place))]!;
};

export const TierSwatch = ({ tier, tiers }: { tier: string; tiers: Tier[] }) => (
  <svg className="inline-block mr-4" width={14} height={10} aria-hidden="true">
    <TierPatterns />
    <rect width={14} height={10} className={tierFill(tier, tiers)} />
  </svg>
);

/** The patterns that the fills of tiers and ages name. */
export const TierPatterns = () => (
  <defs>
    <pattern id="tier-first" width={4} height={8} patternUnits="userSpaceOnUse">
      <rect width={4} height={8} className="fill-walnut-wash" />
      <rect width={2.4} height={8} className="fill-walnut" />
    </pattern>
    <pattern id="tier-third" width={6} height={6} patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
      <rect width={6} height={6} className="fill-walnut-wash" />
      <rect width={2} height={6} className="fill-walnut" />
    </pattern>
    <pattern id="age-previous" width={5} height={5} patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
      <rect width={2} height={5} className="fill-heather" />
    </pattern>
    <pattern id="age-removed" width={5} height={5} patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
      <rect width={5} height={1} className="fill-madder" />
      <rect width={1} height={5} className="fill-madder" />
    </pattern>
    <pattern id="age-ahead" width={7} height={7} patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
      <rect width={1} height={7} className="fill-edge" />
    </pattern>
  </defs>
);
