import './tokens.css'

import { I18nProvider } from '@lingui/react'
import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { setNonce } from 'get-nonce'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'

import { Problem } from './api/client'
import { queries } from './api/queries'
import { machine, pagesOf } from './api/where'
import { App } from './app'
import { Boundary, followUpdates } from './ui/boundary'
import { i18n } from './ui/language'
import { Pages } from './ui/router'

const nonce = document.querySelector<HTMLMetaElement>('meta[property=csp-nonce]')?.nonce
if (nonce) setNonce(nonce)

const client = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 5_000,
      retry: (n, e) => n < 2 && !(e instanceof Problem && e.status > 0 && e.status < 500),
    },
  },
})

followUpdates()

// What the first page needs is asked for at once, not one after the other. Who is not signed in is told so.
if (window.location.pathname === (pagesOf(machine) || '/')) {
  void import('./pages/today').catch(() => undefined)
  const once = { retry: false }
  void client.prefetchQuery({ ...queries.me, ...once })
  void client.prefetchQuery({ ...queries.today, ...once })
  void client.prefetchQuery({ ...queries.tray, ...once })
}

createRoot(document.getElementById('root')!).render(
  <StrictMode>
    <I18nProvider i18n={i18n}>
      <QueryClientProvider client={client}>
        <Boundary>
          <Pages basename={pagesOf(machine) || '/'}>
            <App />
          </Pages>
        </Boundary>
      </QueryClientProvider>
    </I18nProvider>
  </StrictMode>,
)
