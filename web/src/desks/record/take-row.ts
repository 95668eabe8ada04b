// A recorder takes a row because somebody says so.

import { toast } from 'sonner';
import { http, take } from '../../api/client';
import type { Item } from '../../api/model';
import { queries } from '../../api/queries';
import { complain } from '../../parts/form';

export async function takeRow(item: Item<'recorder'>): Promise<void> {
  try {
    await take(http.POST('/api/recorders/{id}/take', { params: { path: { id: item.id } } }));
    toast.success(`“${item.set.name}” has taken a row.`);
    await queries.invalidateQueries({ queryKey: ['recorders'] });
  } catch (error) {
    complain(error);
  }
}
