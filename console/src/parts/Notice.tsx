import type { ReactNode } from 'react'

/** What stands in the place of a list that has nothing, is on its way, or failed. */
export function Notice({ children, bad = false }: { children: ReactNode; bad?: boolean }) {
  return (
    <div role={bad ? 'alert' : 'status'} className={`px-4 py-10 text-center ${bad ? 'text-bad' : 'text-soft'}`}>
      {bad && <span aria-hidden>▲ </span>}
      {children}
    </div>
  )
}

/** What is shown could not be renewed; it stays as it was. */
export function Stale({ why }: { why: string }) {
  return (
    <p role="alert" className="mt-2 text-small text-bad">
      ▲ this is as it was fetched before: {why}
    </p>
  )
}
