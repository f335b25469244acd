import type { ReactNode } from 'react'

/** A heading in the margin, as on a docket, and what belongs to it beside. */
export function Section({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section className="grid grid-cols-[8.5rem_1fr] gap-x-4 border-b border-rule py-3" aria-label={title}>
      <h2 className="text-small font-semibold text-accent">{title}</h2>
      <div className="min-w-0">{children}</div>
    </section>
  )
}
