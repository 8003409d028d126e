/** The heads of a table: each a text and the classes of its column. */
export function Heads({ of }: { of: readonly (readonly [name: string, className?: string])[] }) {
  return (
    <thead>
      <tr>
        {of.map(([name, className], index) =>
          name === '' ? (
            // biome-ignore lint/suspicious/noArrayIndexKey: a column has no identity but its place
            <td key={index} className={className} />
          ) : (
            <th key={name} scope="col" className={className}>
              {name}
            </th>
          ),
        )}
      </tr>
    </thead>
  );
}
