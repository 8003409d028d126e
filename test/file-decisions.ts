/** Every decision on files that can be suggested; tests about letters dismiss them. */
export const FILE_DECISIONS = ['pictures', 'files'].flatMap((kind) =>
  [1, 5].flatMap((mib) => [1, 2, 4].map((years) => `${kind}:${mib} MiB:${years}y`)),
);
