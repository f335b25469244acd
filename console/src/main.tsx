import { QueryClient, QueryClientProvider, useQueryClient } from '@tanstack/react-query'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'
import { BrowserRouter, Link, Navigate, Route, Routes } from 'react-router'

import { api, Refusal } from './api/client'
import { useWho } from './api/who'
import { Agents } from './pages/agents/Agents'
import { Ask } from './pages/ask/Ask'
import { AskField } from './pages/ask/AskField'
import { Audit } from './pages/audit/Audit'
import { CasePage } from './pages/case/CasePage'
import { Cases } from './pages/cases/Cases'
import { CohortPage } from './pages/cohorts/CohortPage'
import { Cohorts } from './pages/cohorts/Cohorts'
import { Outbreaks } from './pages/cohorts/Outbreaks'
import { Codes } from './pages/codes/Codes'
import { Help } from './pages/help/Help'
import { Twin } from './pages/machine/Twin'
import { MachinePage } from './pages/machine/MachinePage'
import { Machines } from './pages/machines/Machines'
import { People } from './pages/people/People'
import { SignIn } from './pages/sign-in/SignIn'
import { WavePage } from './pages/waves/WavePage'
import { Waves } from './pages/waves/Waves'
import { ByNumber } from './parts/ByNumber'
import { Notice } from './parts/Notice'
import './tokens.css'

const queries = new QueryClient({
  defaultOptions: { queries: { retry: (n, e) => !(e instanceof Refusal && e.status < 500) && n < 3, staleTime: 5_000 } },
})

function App() {
  const client = useQueryClient()
  const who = useWho()
  const again = () => void client.invalidateQueries()
  if (who.isPending) return <Notice>One moment…</Notice>
  if (who.error instanceof Refusal && who.error.status === 401) return <SignIn done={again} />
  if (who.isLoadingError) return <Notice bad>{who.error.message}</Notice> // later ones leave what stands on the page
  const signOut = async () => {
    await api.DELETE('/api/v1/session')
    client.clear()
    window.location.assign('/')
  }
  return (
    <div className="flex h-screen flex-col">
      <nav className="flex items-center gap-5 border-b border-rule bg-sheet px-4 py-1.5">
        <Link to="/" className="font-semibold text-accent">
          Diorthos
        </Link>
        <Link to="/">Cases</Link>
        <Link to="/machines">Machines</Link>
        <Link to="/cohorts">Cohorts</Link>
        <Link to="/waves">Waves</Link>
        <Link to="/agents">Agents</Link>
        <Link to="/codes">Codes</Link>
        <Link to="/help">Help</Link>
        {who.data.role === 'administer' && (
          <>
            <Link to="/people">People</Link>
            <Link to="/audit">Audit</Link>
          </>
        )}
        <AskField />
        <span className="ml-auto text-small text-soft">{`${who.data.name}, ${who.data.role}`}</span>
        <button type="button" onClick={() => void signOut()} className="text-small underline underline-offset-2">
          Sign out
        </button>
      </nav>
      <Outbreaks />
      <Routes>
        <Route path="/" element={<Cases />} />
        <Route path="/cases" element={<Navigate to="/" replace />} />
        <Route path="/cases/:number" element={<ByNumber what="case" Page={CasePage} />} />
        <Route path="/machines" element={<Machines />} />
        <Route path="/machines/:name" element={<MachinePage />} />
        <Route path="/machines/:name/twin" element={<Twin />} />
        <Route path="/cohorts" element={<Cohorts />} />
        <Route path="/cohorts/:number" element={<ByNumber what="cohort" Page={CohortPage} />} />
        <Route path="/waves" element={<Waves />} />
        <Route path="/waves/:number" element={<ByNumber what="roll-out" Page={WavePage} />} />
        <Route path="/agents" element={<Agents />} />
        <Route path="/ask" element={<Ask />} />
        <Route path="/codes" element={<Codes />} />
        <Route path="/help" element={<Help />} />
        <Route path="/help/:page" element={<Help />} />
        <Route path="/people" element={<People />} />
        <Route path="/audit" element={<Audit />} />
        <Route path="*" element={<Notice bad>There is no such page.</Notice>} />
      </Routes>
    </div>
  )
}

const root = document.getElementById('root')
if (root) {
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={queries}>
        <BrowserRouter>
          <App />
        </BrowserRouter>
      </QueryClientProvider>
    </StrictMode>,
  )
}
