import './tokens.css'

import { I18nProvider } from '@lingui/react'
import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { setNonce } from 'get-nonce'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'
import { createBrowserRouter, RouterProvider } from 'react-router'

import { Problem } from './api/client'
import { machine, pagesOf } from './api/where'
import { App } from './app'
import { Boundary, followUpdates } from './ui/boundary'
import { i18n } from './ui/language'

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
const router = createBrowserRouter([{ path: '*', element: <App /> }], { basename: pagesOf(machine) || '/' })

createRoot(document.getElementById('root')!).render(
  <StrictMode>
    <I18nProvider i18n={i18n}>
      <QueryClientProvider client={client}>
        <Boundary>
          <RouterProvider router={router} />
        </Boundary>
      </QueryClientProvider>
    </I18nProvider>
  </StrictMode>,
)
