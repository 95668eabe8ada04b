// How settings differ, field by field as deep as they go.

type Tree = Record<string, unknown>;

const isTree = (value: unknown): value is Tree => typeof value === 'object' && value !== null && !Array.isArray(value);
const isId = (key: string) => /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/.test(key);
/** Longer values are cut. */
const LONGEST = 160;

function words(value: unknown): string {
  const text = value === undefined ? 'null' : JSON.stringify(value);
  return text.length > LONGEST ? `${text.slice(0, LONGEST)}…` : text;
}

/** What something that stands under an id is called. */
function nameOf(value: unknown): string | undefined {
  if (!isTree(value)) return undefined;
  const name = isTree(value.tag) ? value.tag.name : (value.name ?? value.kind);
  return typeof name === 'string' && name !== '' ? name : undefined;
}

/** Each difference as a line: “Level · range_high 100 → 110”. */
export function differences(before: unknown, after: unknown, path: readonly string[] = []): string[] {
  if (JSON.stringify(before) === JSON.stringify(after)) return [];
  if (!isTree(before) || !isTree(after)) {
    const title = path.join(' · ');
    return [`${title} ${words(before)} → ${words(after)}`.trim()];
  }
  return [...new Set([...Object.keys(before), ...Object.keys(after)])].flatMap((key) => {
    const [was, is] = [before[key], after[key]];
    const name = isId(key) ? (nameOf(is) ?? nameOf(was) ?? key) : key;
    // What merely holds things together needs no name of its own.
    const inside = key === 'tag' || ['properties', 'parameters', 'parts'].includes(key) ? path : [...path, name];
    if (isId(key) && (was === undefined || is === undefined))
      return [`${inside.join(' · ')} ${was === undefined ? 'added' : 'removed'}`];
    return differences(was, is, inside);
  });
}
