// Rows of equipment to be, by column.

/** What stands in the columns of a row, by their keys. */
export type Row = Record<string, string>;

/** The rows after a block of text was put in, its first cell at this row and column; new rows come behind. */
export function filled(
  rows: readonly Row[],
  columns: readonly { key: string }[],
  row: number,
  column: string,
  block: readonly (readonly string[])[],
): Row[] {
  const first = columns.findIndex((c) => c.key === column);
  const next = [...rows];
  for (const [down, line] of block.entries()) {
    const index = row + down;
    const cells = line.flatMap((text, across) => {
      const key = columns[first + across]?.key;
      return key === undefined ? [] : [[key, text] as const];
    });
    // A new row lies where the one above it does.
    const place = next[index - 1]?.place;
    next[index] = { ...(next[index] ?? (place === undefined ? {} : { place })), ...Object.fromEntries(cells) };
  }
  return next;
}
