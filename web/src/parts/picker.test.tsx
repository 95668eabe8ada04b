import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { cleanup, createEvent, fireEvent, render, screen } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { afterEach, expect, it, vi } from 'vitest';
import { http } from '../api/client';
import { dragItem } from './drag';
import { ListField, Picker } from './picker';

vi.mock('../api/client', () => ({ http: { GET: vi.fn() }, take: async (answer: Promise<unknown>) => answer }));
afterEach(cleanup);

const shown = (ui: React.ReactNode) => render(<QueryClientProvider client={new QueryClient()}>{ui}</QueryClientProvider>);
const groups = (many: number) => Array.from({ length: many }, (_, i) => ({ id: `g${i}`, title: `Group ${i}, every ${i} s` }));

it('is a plain list for up to a dozen, and is searched by words beyond', async () => {
  const onChange = vi.fn();
  const { unmount } = shown(<ListField label="Group" from={groups(12)} value="" none="none" onChange={onChange} />);
  expect(screen.getByLabelText('Group').tagName).toBe('SELECT');
  unmount();
  shown(<ListField label="Group" from={groups(13)} value="g3" none="none" onChange={onChange} />);
  const box = screen.getByRole('combobox', { name: 'Group' });
  expect(box).toHaveProperty('value', 'Group 3, every 3 s');
  const user = userEvent.setup();
  await user.click(box);
  expect(screen.getAllByRole('option')).toHaveLength(13);
  await user.type(box, '12 group{Enter}');
  expect(onChange).toHaveBeenCalledWith('g12');
  await user.click(screen.getByRole('button', { name: 'Clear Group' }));
  expect(onChange).toHaveBeenLastCalledWith('');
});

/** What a drop carries, as the browser hands it over. */
function carrying(item: Parameters<typeof dragItem>[1]): DataTransfer {
  const data = new Map<string, string>();
  const transfer = {
    get types() {
      return [...data.keys()];
    },
    setData: (type: string, text: string) => data.set(type, text),
    getData: (type: string) => data.get(type) ?? '',
  };
  dragItem(transfer as unknown as DataTransfer, item);
  return transfer as unknown as DataTransfer;
}

it('takes what is dropped on it, and offers the tags of a place', async () => {
  vi.mocked(http.GET).mockResolvedValue({ found: [], total: 0 } as never);
  const onPick = vi.fn();
  shown(<Picker label="Add a tag" kind="tag" onPick={onPick} />);
  const box = screen.getByRole('combobox', { name: 'Add a tag' });
  const drop = (transfer: DataTransfer) => {
    const event = createEvent.drop(box);
    Object.defineProperty(event, 'dataTransfer', { value: transfer });
    fireEvent(box, event);
  };
  drop(carrying({ kind: 'tag', id: 't7', title: 'EX-1/Level' }));
  expect(onPick).toHaveBeenCalledWith('t7');
  drop(carrying({ kind: 'place', id: 'p1', title: 'Extraction/EX-2' }));
  expect(box).toHaveProperty('value', 'Extraction/EX-2 ');
  expect(await screen.findByText(/No match/)).toBeTruthy();
  // What comes from another program is left alone.
  drop({ types: ['text/plain'], getData: () => 'EX-1/Level' } as unknown as DataTransfer);
  expect(onPick).toHaveBeenCalledTimes(1);
});
