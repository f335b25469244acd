import type { ReactNode } from 'react'

import type { Case } from '../api/client'
import { states } from './Status'

type State = Case['state'] | ''

interface Props {
  title: string
  of: { text: string; placeholder: string; label: string; set: (text: string) => void }
  state: State
  setState: (state: State) => void
  total: number
  one: string
  columns: string
  heads: string[]
  children?: ReactNode
}

/** What stands above a list: what it is searched by, how many there are, what its columns are. The number of a case stands to the right. */
export function ListHead({ title, of, state, setState, total, one, columns, heads, children }: Props) {
  return (
    <>
      <div className="flex items-center gap-4 px-4 py-2">
        <h1 className="text-lead font-semibold">{title}</h1>
        <input type="search" value={of.text} onChange={(e) => of.set(e.target.value)} placeholder={of.placeholder} aria-label={of.label} className="w-60 border border-rule bg-sheet px-2 py-1 text-small" />
        <select value={state} onChange={(e) => setState(e.target.value as State)} aria-label="State" className="border border-rule bg-sheet px-2 py-1 text-small">
          <option value="">any state</option>
          {states.map((s) => (
            <option key={s}>{s}</option>
          ))}
        </select>
        <span className="text-small text-soft">
          {total >= 10_000 ? '10,000 or more' : total} {total === 1 ? one : `${one}s`}
        </span>
        {children}
      </div>
      <div className={`${columns} border-b border-rule pb-1 text-tiny text-soft`} role="presentation">
        {heads.map((h) => (
          <span key={h} className={h === 'case' ? 'text-right' : ''}>
            {h}
          </span>
        ))}
      </div>
    </>
  )
}
