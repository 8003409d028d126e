const HEIGHT = 15;

/** Octets by year as small columns, the largest at full height; the figures are in the details. */
export function YearBars({ years, tall = false }: { years: readonly number[]; tall?: boolean }) {
  const most = Math.max(1, ...years);
  const width = 100 / years.length;
  return (
    <svg
      aria-hidden="true"
      viewBox={`0 0 100 ${HEIGHT}`}
      preserveAspectRatio="none"
      className={`block w-full shrink-0 ${tall ? 'h-[44px]' : 'h-[15px]'}`}
    >
      {years.map((bytes, index) => {
        const height = bytes === 0 ? 0 : Math.max(1, (bytes / most) * HEIGHT);
        return (
          <rect
            // biome-ignore lint/suspicious/noArrayIndexKey: a year is its place
            key={index}
            x={index * width + width * 0.12}
            width={width * 0.76}
            y={HEIGHT - height}
            height={height}
            className="fill-ink-3"
          />
        );
      })}
    </svg>
  );
}
