import { QueryClientProvider } from '@tanstack/react-query';
import { RouterProvider } from '@tanstack/react-router';
import { Tooltip } from 'radix-ui';
import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';
import { queries } from './api/queries';
import { router } from './app/router';
import { SignedIn } from './app/session';
import { Toasts } from './app/toasts';
import { startAlarmText } from './parts/alarm-text';
import { startTheme } from './parts/theme';
import './style.css';

startTheme();
startAlarmText();
const root = document.getElementById('root');
if (root) {
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={queries}>
        <Tooltip.Provider delayDuration={300}>
          <SignedIn>
            <RouterProvider router={router} />
          </SignedIn>
          <Toasts />
        </Tooltip.Provider>
      </QueryClientProvider>
    </StrictMode>,
  );
}
