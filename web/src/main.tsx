import '@fontsource-variable/hanken-grotesk'
import '@fontsource/ibm-plex-mono/400.css'
import '@fontsource/ibm-plex-mono/600.css'
import { CssBaseline, ThemeProvider } from '@mui/material'
import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'
import { createBrowserRouter, RouterProvider } from 'react-router'
import { pages } from './pages'
import { Lost } from './parts/Lost'
import { Projects, Start } from './shell/Projects'
import { Shell } from './shell/Shell'
import { theme } from './theme'

const router = createBrowserRouter([
  { path: '/', element: <Start />, errorElement: <Lost /> },
  { path: '/projects', element: <Projects />, errorElement: <Lost /> },
  { path: '/parts', lazy: async () => ({ Component: (await import('./parts/Parts')).Parts }) },
  {
    path: '/p/:project',
    element: <Shell />,
    errorElement: <Lost />,
    hydrateFallbackElement: <></>,
    children: [
      ...pages.map((p) => ({ path: p.path, element: <p.Component />, errorElement: <Lost /> })),
      { path: '*', element: <Lost /> },
    ],
  },
  { path: '*', element: <Lost /> },
])
// The server is this machine: it is there without a network, so nothing waits for one.
const queries = new QueryClient({
  defaultOptions: {
    queries: { retry: 1, refetchOnWindowFocus: false, staleTime: 2000, networkMode: 'always' },
    mutations: { networkMode: 'always' },
  },
})

createRoot(document.getElementById('root')!).render(
  <StrictMode>
    <ThemeProvider theme={theme} defaultMode="system">
      <CssBaseline />
      <QueryClientProvider client={queries}>
        <RouterProvider router={router} />
      </QueryClientProvider>
    </ThemeProvider>
  </StrictMode>,
)

// The code of the other pages is fetched once this one has nothing to do.
setTimeout(() => {
  for (const p of pages) void p.load()
}, 1500)
