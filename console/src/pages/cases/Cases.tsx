import { useVirtualizer } from '@tanstack/react-virtual'
import { useDeferredValue, useEffect, useRef, useState } from 'react'
import { useNavigate } from 'react-router'

import type { Case } from '../../api/client'
import { Notice } from '../../parts/Notice'
import { CaseState } from '../../parts/State'
import { utc } from '../../parts/text'
import { useCases, type Filter } from './queries'

const states: Filter['state'][] = ['', 'received', 'reading', 'open', 'climbing', 'unreadable']
const columns = 'grid grid-cols-[3rem_11rem_9rem_6.5rem_9.5rem_1fr_4rem_8.5rem] gap-x-3 px-4'
const rowHeight = 34

export function Cases() {
  const [machine, setMachine] = useState('')
  const [state, setState] = useState<Filter['state']>('')
  const { list, connected } = useCases({ machine: useDeferredValue(machine), state })
  const rows = list.data?.pages.flatMap((p) => p.cases) ?? []
  const total = list.data?.pages[0]?.total ?? 0
  return (
    <main className="flex min-h-0 flex-1 flex-col">
      <div className="flex items-center gap-4 px-4 py-2">
        <h1 className="text-lead font-semibold">Cases</h1>
        <input type="search" value={machine} onChange={(e) => setMachine(e.target.value)} placeholder="part of a machine’s name" aria-label="Machine" className="w-60 border border-rule bg-sheet px-2 py-1 text-small" />
        <select value={state} onChange={(e) => setState(e.target.value as Filter['state'])} aria-label="State" className="border border-rule bg-sheet px-2 py-1 text-small">
          {states.map((s) => (
            <option key={s} value={s}>
              {s || 'any state'}
            </option>
          ))}
        </select>
        <span className="text-small text-soft">
          {total >= 10_000 ? '10,000 or more' : total} {total === 1 ? 'case' : 'cases'}
        </span>
        {!connected && <span className="text-small text-odd">◆ not live: connecting again</span>}
      </div>
      <div className={`${columns} border-b border-rule pb-1 text-tiny text-soft`} role="presentation">
        <span className="text-right">case</span>
        <span>machine</span>
        <span>site</span>
        <span>state</span>
        <span>tried</span>
        <span>likeliest cause</span>
        <span>proven</span>
        <span>received (UTC)</span>
      </div>
      {list.isPending ? (
        <Notice>Fetching the cases…</Notice>
      ) : list.isError ? (
        <Notice bad>{list.error.message}</Notice>
      ) : rows.length === 0 ? (
        <Notice>
          {machine || state ? 'No case fits.' : 'No cases yet. Hand one in: '}
          {!machine && !state && <code className="font-mono">diorthos gather …, then diorthos submit BAG</code>}
        </Notice>
      ) : (
        <Rows rows={rows} more={() => list.hasNextPage && !list.isFetchingNextPage && void list.fetchNextPage()} />
      )}
    </main>
  )
}

/** Draws only the rows in sight, and asks for more at the end. */
function Rows({ rows, more }: { rows: Case[]; more: () => void }) {
  const box = useRef<HTMLDivElement>(null)
  const go = useNavigate()
  // eslint-disable-next-line react-hooks/incompatible-library -- the compiler is not used
  const view = useVirtualizer({ count: rows.length, getScrollElement: () => box.current, estimateSize: () => rowHeight, overscan: 10 })
  const last = view.getVirtualItems().at(-1)?.index ?? 0
  useEffect(() => {
    if (last >= rows.length - 1) more()
  }, [last, rows.length, more])
  return (
    <div ref={box} className="min-h-0 flex-1 overflow-auto bg-sheet">
      <ul className="relative" style={{ height: view.getTotalSize() }}>
        {view.getVirtualItems().map((item) => {
          const c = rows[item.index]
          if (!c) return null
          return (
            <li key={c.number} className="absolute inset-x-0 border-b border-rule" style={{ top: item.start, height: rowHeight }}>
              <a
                href={`/cases/${c.number}`}
                onClick={(e) => {
                  if (e.metaKey || e.ctrlKey) return
                  e.preventDefault()
                  void go(`/cases/${c.number}`)
                }}
                className={`${columns} h-full items-center whitespace-nowrap hover:bg-ground focus-visible:bg-ground`}
              >
                <span className="text-right font-semibold">{c.number}</span>
                <span className="truncate">{c.machine}</span>
                <span className="truncate text-soft">{c.site}</span>
                <CaseState state={c.state} />
                <span className="truncate">{c.tried}</span>
                <span className="truncate">{c.headline ?? c.problem}</span>
                <span>{c.rungs > 0 ? `${c.proven} of ${c.rungs}` : ''}</span>
                <span className="text-soft">{utc(c.received).slice(0, 16)}</span>
              </a>
            </li>
          )
        })}
      </ul>
    </div>
  )
}
