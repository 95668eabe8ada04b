// What a review finds of alarm rules, in words.

export const FINDINGS: Record<string, { title: string; why: string; choice: string }> = {
  not_argued: {
    title: 'Priority not argued for',
    why: 'Enter what happens where nobody acts, and how soon somebody must.',
    choice: 'priority not argued for',
  },
  overruled: {
    title: 'Other priority than the guide gives',
    why: 'Look whether the reason still holds.',
    choice: 'other priority than the guide',
  },
  unchecked: {
    title: 'Not checked as they are now',
    why: 'Nobody has, or something changed since.',
    choice: 'not checked as they are',
  },
  unguided: { title: 'Without “what to do”', why: 'An alarm on which nobody can act is none.', choice: 'without “what to do”' },
  duplicate: {
    title: 'Duplicates',
    why: 'Another rule of the same tag looks for the same.',
    choice: 'duplicates',
  },
  outside_range: {
    title: 'Limit outside the range of the tag',
    why: 'It can hardly be passed.',
    choice: 'limit outside the range',
  },
  wrong_order: {
    title: 'Limits in the wrong order',
    why: 'A high high must lie above high, high above low.',
    choice: 'limits in the wrong order',
  },
  never_came: {
    title: 'Not come for a year',
    why: 'Perhaps it cannot come, or needs no alarm.',
    choice: 'not come for a year',
  },
  always_stands: { title: 'Standing for more than a day', why: 'It tells nobody anything.', choice: 'standing over a day' },
  chatters: {
    title: 'Chattered within seven days',
    why: 'Its backtest suggests settings that calm it.',
    choice: 'chattered within 7 days',
  },
};
