// Series of texts that people fill down, and pieces of spreadsheets.

const LAST_NUMBER = /(\d+)(?!.*\d)/s;

/** The last number of a text moved on, as many digits as before; texts without a number stay. */
export function countedOn(text: string, by: number): string {
  return text.replace(LAST_NUMBER, (digits) => String(Math.max(0, Number(digits) + by)).padStart(digits.length, '0'));
}

/** How far apart the last numbers of two texts are that are otherwise the same; 1 where they are not. */
function stride(first: string, second: string | undefined): number {
  if (second === undefined) return 1;
  const [a, b] = [first, second].map((t) => t.match(LAST_NUMBER));
  if (!a || !b || first.replace(LAST_NUMBER, '#') !== second.replace(LAST_NUMBER, '#')) return 1;
  return Number(b[0]) - Number(a[0]);
}

/** A text for each row: the first as it is, or counted on by one, or by the stride that a second one shows. */
export function series(first: string, second: string | undefined, count: number, counting: boolean): string[] {
  const step = stride(first, second);
  return Array.from({ length: count }, (_, i) => (counting ? countedOn(first, i * step) : first));
}

/** Cells as spreadsheets put them on the clipboard: tabs, line ends, quotes around what holds them. */
export function toClipboard(rows: readonly (readonly string[])[]): string {
  const cell = (text: string) => (/["\t\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text);
  return rows.map((row) => row.map(cell).join('\t')).join('\n');
}

/** The rows and cells of a piece of a spreadsheet. */
export function fromClipboard(text: string): string[][] {
  const rows: string[][] = [[]];
  let cell = '';
  let quoted = false;
  const end = () => {
    rows.at(-1)?.push(cell);
    cell = '';
  };
  for (let i = 0; i < text.length; i += 1) {
    const c = text[i] ?? '';
    if (quoted) {
      if (c !== '"') cell += c;
      else if (text[i + 1] === '"') {
        cell += '"';
        i += 1;
      } else quoted = false;
    } else if (c === '"' && cell === '') quoted = true;
    else if (c === '\t') end();
    else if (c === '\n' || c === '\r') {
      if (c === '\r' && text[i + 1] === '\n') i += 1;
      end();
      rows.push([]);
    } else cell += c;
  }
  end();
  // A line end behind the last row makes no row.
  if (rows.length > 1 && rows.at(-1)?.length === 1 && rows.at(-1)?.[0] === '') rows.pop();
  return rows;
}
