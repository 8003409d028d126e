/** A length beside a figure. The figure says it in words, so a reader of the page is not told twice. */
export function Bar({
  share,
  kind = 'water',
}: {
  share: number;
  kind?: 'water' | 'silt' | 'slate' | 'moss' | 'stone' | 'hatch';
}) {
  const paint = {
    water: 'bg-water',
    silt: 'bg-silt',
    slate: 'bg-slate',
    moss: 'bg-moss',
    stone: 'bg-stone',
    hatch: 'hatch',
  }[kind];
  const width = `${Math.max(share > 0 ? 1 : 0, Math.min(1, share) * 100)}%`;
  return (
    <span aria-hidden="true" className="block h-[9px] w-full">
      <span className={`block h-full rounded-[1px] ${paint}`} style={{ width }} />
    </span>
  );
}
