/** Reciprocal roots in the unit circle. */
import type { Schema } from '../../api/client';

const SIZE = 168;
const RADIUS = 70;

export function RootsPicture({ roots }: { roots: Schema['Root'][] }) {
  const centre = SIZE / 2;
  const near = roots.filter((root) => Math.hypot(root.real, root.imaginary) > 0.97).length;
  const label = `${roots.length} reciprocal roots, ${near ? `${near} next to` : 'none next to'} the unit circle`;
  return (
    <svg viewBox={`0 0 ${SIZE} ${SIZE}`} width={SIZE} height={SIZE} role="img" aria-label={label}>
      <title>{label}</title>
      <circle cx={centre} cy={centre} r={RADIUS} fill="none" stroke="var(--second)" />
      <path
        d={`M${centre - RADIUS - 8} ${centre}H${centre + RADIUS + 8}M${centre} ${centre - RADIUS - 8}V${centre + RADIUS + 8}`}
        stroke="var(--color-base-300)"
      />
      {roots.map((root) => {
        const x = centre + RADIUS * root.real;
        const y = centre - RADIUS * root.imaginary;
        const key = `${root.of} ${root.real} ${root.imaginary}`;
        return root.of === 'phi' ? (
          <circle key={key} cx={x} cy={y} r={3} fill="var(--color-base-content)" />
        ) : (
          <rect
            key={key}
            x={x - 3}
            y={y - 3}
            width={6}
            height={6}
            fill="var(--color-base-100)"
            stroke="var(--color-base-content)"
          />
        );
      })}
    </svg>
  );
}
