import { useQuery } from '@tanstack/react-query'
import { Collapsible } from 'radix-ui'
import { createContext, useContext, useState, type ReactNode } from 'react'

import { api, ask } from '../api/client'

/** The number of the case whose logs are looked at. */
export const CaseNumber = createContext(0)

interface Place {
  file: string
  line: number
}

/** A place in a log. It opens the log there, with the line marked. */
export function LogAt({ place, children }: { place: Place; children: ReactNode }) {
  const [open, setOpen] = useState(false)
  return (
    <Collapsible.Root open={open} onOpenChange={setOpen} className="min-w-0">
      <div>
        <Collapsible.Trigger className="text-soft underline decoration-dotted underline-offset-2 hover:text-ink" title="open the log here">
          {place.file} line {place.line}
        </Collapsible.Trigger>{' '}
        {children}
      </div>
      <Collapsible.Content>{open && <Lines place={place} />}</Collapsible.Content>
    </Collapsible.Root>
  )
}

function Lines({ place }: { place: Place }) {
  const number = useContext(CaseNumber)
  const answer = useQuery({
    queryKey: ['lines', number, place.file, place.line],
    queryFn: () => ask(api.GET('/api/v1/cases/{number}/lines', { params: { path: { number }, query: { file: place.file, around: place.line, span: 8 } } })),
    staleTime: Infinity,
  })
  if (answer.isPending) return <p className="text-small text-soft">Opening the log…</p>
  if (answer.isLoadingError) return <p className="text-small text-bad">▲ {answer.error.message}</p>
  return (
    <ol className="my-1 overflow-x-auto border border-rule bg-sheet py-1 font-mono text-tiny text-ink" aria-label={`${place.file} around line ${place.line}`}>
      {answer.data.lines.map((l) => (
        <li key={l.number} className={`grid grid-cols-[1.2rem_3.5rem_1fr] ${l.number === place.line ? 'bg-bad-wash' : ''}`} aria-current={l.number === place.line || undefined}>
          <span aria-hidden className="text-center text-bad">
            {l.number === place.line ? '▲' : ''}
          </span>
          <span className="pr-2 text-right text-soft">{l.number}</span>
          <span className="whitespace-pre-wrap">{l.text}</span>
        </li>
      ))}
    </ol>
  )
}
