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
