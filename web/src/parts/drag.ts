// Dragging a thing from the plant column, a card or a sheet into a field that chooses one.

/** What is dragged. */
export interface Dragged {
  kind: 'tag' | 'place' | 'connection';
  id: string;
  /** Its path, as the finder knows it. */
  title: string;
}

const TYPE = 'application/vnd.havrel.item+json';

/** Hands a thing to whatever it is dropped on; other programs get its path. */
export function dragItem(transfer: DataTransfer, item: Dragged) {
  transfer.setData(TYPE, JSON.stringify(item));
  transfer.setData('text/plain', item.title);
}

/** Whether what is dragged comes from here; what it is can be read only when it is dropped. */
export const mayDrop = (transfer: DataTransfer) => transfer.types.includes(TYPE);

/** What was dropped. */
export function droppedItem(transfer: DataTransfer): Dragged | undefined {
  try {
    const item = JSON.parse(transfer.getData(TYPE)) as Partial<Dragged>;
    const known = item.kind === 'tag' || item.kind === 'place' || item.kind === 'connection';
    return known && typeof item.id === 'string' && typeof item.title === 'string' ? (item as Dragged) : undefined;
  } catch {
    return undefined;
  }
}
