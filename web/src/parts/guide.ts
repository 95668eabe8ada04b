// The site's guide to priorities, and its words.

import { useQuery } from '@tanstack/react-query';
import { http, take } from '../api/client';
import type { Concern, GuideSet } from '../api/model';

export const LEVEL_WORDS = ['none', 'minor', 'major', 'severe'] as const;

export const CONCERN_WORDS: Record<Concern, string> = {
  safety: 'Safety',
  environment: 'Environment',
  production: 'Production',
  quality: 'Quality',
  equipment: 'Equipment',
};

interface GuideView {
  /** None where the site has no guide of its own, and the usual one holds. */
  id: string | null;
  revision: number;
  guide: GuideSet;
}

export function useGuide(): GuideView | undefined {
  const read = async () => (await take(http.GET('/api/alarms/guide'))) as unknown as GuideView;
  return useQuery({ queryKey: ['items', 'guide in force'], queryFn: read }).data;
}
