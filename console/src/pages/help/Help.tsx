import { useQuery } from '@tanstack/react-query'
import { Link, useParams } from 'react-router'

import { Notice } from '../../parts/Notice'
import { Markdown } from './Markdown'
import { pages } from './pages'

/** Jobs that technicians came with, each walked from the first word to the proof. */
export function Help() {
  const { page = 'README' } = useParams()
  const load = pages[page]
  const text = useQuery({ queryKey: ['help', page], enabled: load !== undefined, queryFn: () => load?.() ?? '', staleTime: Infinity })
  if (!load) return <Notice bad>There is no such walk.</Notice>
  if (text.isError) return <Notice bad>The walk could not be fetched: is the service there?</Notice>
  if (text.data === undefined) return <Notice>One moment…</Notice>
  return (
    <main className="min-h-0 flex-1 overflow-auto px-4 py-3">
      {page !== 'README' && (
        <p className="mb-2 text-small">
          <Link to="/help" className="underline underline-offset-2">
            All jobs
          </Link>
        </p>
      )}
      <Markdown text={text.data} />
    </main>
  )
}
