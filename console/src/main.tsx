import '@fontsource-variable/inter/wght.css';
import '@fontsource-variable/source-serif-4/wght.css';
import './list.css';
import createCache from '@emotion/cache';
import { CacheProvider } from '@emotion/react';
import { ChakraProvider } from '@chakra-ui/react';
import { MutationCache, QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';
import { BrowserRouter } from 'react-router';
import { Refusal } from './api/client';
import { App } from './app';
import { touch } from './lib/use-change';
import { session } from './session/me';
import { system } from './theme';

const nonce = document.querySelector<HTMLMetaElement>('meta[property=csp-nonce]')?.nonce;
const cache = createCache({ key: 'ivy', nonce: nonce ?? '' });

const queries = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 5_000,
      retry: (count, error) => count < 2 && !(error instanceof Refusal && error.status >= 400 && error.status < 500),
    },
  },
  mutationCache: new MutationCache({
    onSuccess: (_answer, _values, _kept, change) => {
      if (change.meta) touch(queries, change.meta.touches);
    },
  }),
});

void queries.prefetchQuery(session);

const root = document.getElementById('root');
if (root) {
  createRoot(root).render(
    <StrictMode>
      <CacheProvider value={cache}>
        <ChakraProvider value={system}>
          <QueryClientProvider client={queries}>
            <BrowserRouter>
              <App />
            </BrowserRouter>
          </QueryClientProvider>
        </ChakraProvider>
      </CacheProvider>
    </StrictMode>,
  );
}
