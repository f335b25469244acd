import { useDeferredValue, useState } from 'react'

import type { MachineSummary } from '../../api/client'
import { Listed } from '../../parts/Listed'
import { Notice } from '../../parts/Notice'
import { CaseState, states } from '../../parts/State'
import { utc } from '../../parts/text'
import { useMachines, type Filter } from './queries'

const columns = 'grid grid-cols-[11rem_9.5rem_13rem_3.5rem_6.5rem_1fr_8.5rem] gap-x-3 px-4'

/** All machines, each with its latest case. */
export function Machines() {
  const [name, setName] = useState('')
  const [state, setState] = useState<Filter['state']>('')
  const list = useMachines({ name: useDeferredValue(name), state })
  const rows = list.data?.pages.flatMap((p) => p.machines) ?? []
  const total = list.data?.pages[0]?.total ?? 0
  return (
    <main className="flex min-h-0 flex-1 flex-col">
      <div className="flex items-center gap-4 px-4 py-2">
        <h1 className="text-lead font-semibold">Machines</h1>
        <input type="search" value={name} onChange={(e) => setName(e.target.value)} placeholder="part of a name or a site" aria-label="Name or site" className="w-60 border border-rule bg-sheet px-2 py-1 text-small" />
        <select value={state} onChange={(e) => setState(e.target.value as Filter['state'])} aria-label="State of the latest case" className="border border-rule bg-sheet px-2 py-1 text-small">
          <option value="">any state</option>
          {states.map((s) => (
            <option key={s}>{s}</option>
          ))}
        </select>
        <span className="text-small text-soft">
          {total >= 10_000 ? '10,000 or more' : total} {total === 1 ? 'machine' : 'machines'}
        </span>
      </div>
      <div className={`${columns} border-b border-rule pb-1 text-tiny text-soft`} role="presentation">
        <span>machine</span>
        <span>site</span>
        <span>model</span>
        <span className="text-right">case</span>
        <span>state</span>
        <span>likeliest cause</span>
        <span>seen (UTC)</span>
      </div>
      {list.isPending ? (
        <Notice>Fetching the machines…</Notice>
      ) : list.isError ? (
        <Notice bad>{list.error.message}</Notice>
      ) : rows.length === 0 ? (
        <Notice>{name || state ? 'No machine fits.' : 'No machine is known yet. One is known from its first case on.'}</Notice>
      ) : (
        <Listed
          rows={rows}
          id={(m: MachineSummary) => m.name}
          to={(m) => `/machines/${encodeURIComponent(m.name)}`}
          columns={columns}
          more={() => list.hasNextPage && !list.isFetchingNextPage && void list.fetchNextPage()}
          draw={(m) => (
            <>
              <span className="truncate font-semibold">{m.name}</span>
              <span className="truncate text-soft">{m.site}</span>
              <span className="truncate text-soft">{m.model}</span>
              <span className="text-right">{m.case}</span>
              <CaseState state={m.state} />
              <span className="truncate">{m.state === 'quiet' ? '' : m.headline}</span>
              <span className="text-soft">{utc(m.seen).slice(0, 16)}</span>
            </>
          )}
        />
      )}
    </main>
  )
}
