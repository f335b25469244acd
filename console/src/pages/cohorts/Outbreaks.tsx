import { Link } from 'react-router'

import { StatusWord } from '../../parts/Status'
import { useOutbreaks } from './queries'

/** A line above every page while a failure is suddenly common. */
export function Outbreaks() {
  const list = useOutbreaks()
  const going = list.data?.outbreaks.filter((o) => !o.ended) ?? []
  if (going.length === 0) return null
  return (
    <aside role="status" className="flex flex-wrap items-baseline gap-x-6 gap-y-1 border-b border-rule bg-sheet px-4 py-1.5">
      {going.slice(0, 3).map((o) => (
        <span key={o.id}>
          <StatusWord tone="bad">outbreak</StatusWord>{' '}
          <Link to={`/cohorts/${o.cohort}`} className="font-semibold underline underline-offset-2">
            {o.title}
          </Link>{' '}
          <span className="text-soft">{`${o.now} machines${o.held && !o.liftedAt ? `, ${o.held} is held back` : ''}`}</span>
        </span>
      ))}
      {going.length > 3 && (
        <Link to="/cohorts" className="underline underline-offset-2">{`and ${going.length - 3} more`}</Link>
      )}
    </aside>
  )
}
