import { QueryClientProvider } from '@tanstack/react-query'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'
import '@fontsource-variable/libre-franklin'
import './theme.css'
import { ApiError } from '../api/client'
import { FreshQueryClient } from '../api/FreshQueryClient'
import { askAnewAfterActs } from '../api/useAction'
import { App } from './App'
import { followTheme } from './theme'

followTheme()
const queries: FreshQueryClient = new FreshQueryClient({
  mutationCache: askAnewAfterActs(() => queries),
  // The server may be on this machine: whether that has a network says nothing of whether it answers.
  defaultOptions: {
    mutations: { networkMode: 'always' },
    queries: {
      networkMode: 'always',
      refetchOnWindowFocus: true,
      retry: (times, error) => times < 2 && error instanceof ApiError && (error.status === 0 || error.status >= 500),
    },
  },
})

const root = document.getElementById('root')
if (root) {
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={queries}>
        <App />
      </QueryClientProvider>
    </StrictMode>,
  )
}
