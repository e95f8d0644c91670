import '@fontsource-variable/hanken-grotesk'
import '@fontsource/ibm-plex-mono/400.css'
import '@fontsource/ibm-plex-mono/600.css'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'
import { CssBaseline, ThemeProvider } from '@mui/material'
import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { createBrowserRouter, RouterProvider } from 'react-router'
import { theme } from './theme'
import { Lost } from './parts/Lost'
import { Projects, Shell } from './Shell'
import { Sources } from './stages/Sources'
import { Bytes } from './stages/Bytes'
import { LayoutPage, Layouts } from './stages/Layout'
import { Finds } from './stages/Finds'
import { Chain } from './stages/Chain'
import { Rehearsal } from './stages/Rehearsal'
import { Delivery } from './stages/Delivery'

const router = createBrowserRouter([
  { path: '/', element: <Projects />, errorElement: <Lost /> },
  {
    path: '/p/:project',
    element: <Shell />,
    errorElement: <Lost />,
    children: [
      { path: 'sources', element: <Sources /> },
      { path: 'sources/bytes/:entry', element: <Bytes /> },
      { path: 'sources/layouts', element: <Layouts /> },
      { path: 'sources/layout/:layout', element: <LayoutPage /> },
      { path: 'finds/:find?', element: <Finds /> },
      { path: 'chain/:chain?', element: <Chain /> },
      { path: 'rehearsal/:chain?', element: <Rehearsal /> },
      { path: 'delivery/:chain?', element: <Delivery /> },
      { path: '*', element: <Lost /> },
    ],
  },
  { path: '*', element: <Lost /> },
])
const queries = new QueryClient({
  defaultOptions: { queries: { retry: 1, refetchOnWindowFocus: false, staleTime: 2000 } },
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
