import { notifyManager, QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';
import { RouterProvider } from 'react-router';
import { worthRetrying } from './api/queries';
import { router } from './routes';
import { applyTheme } from './ui/theme';
import './ui/theme.css';

applyTheme();
notifyManager.setScheduler(queueMicrotask); // a timer would hold every answer back for some milliseconds
const client = new QueryClient({
  defaultOptions: { queries: { retry: worthRetrying, staleTime: 5_000 } },
});
const root = document.getElementById('root');
if (root) {
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={client}>
        <RouterProvider router={router} />
      </QueryClientProvider>
    </StrictMode>,
  );
}
