// What happened, told for some seconds in a corner of the page.

import { Toaster } from 'sonner';
import { useTheme } from '../parts/theme';

export function Toasts() {
  return <Toaster theme={useTheme() === 'night' ? 'dark' : 'light'} position="bottom-right" offset={48} duration={5000} />;
}
