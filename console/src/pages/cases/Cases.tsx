import { useDeferredValue, useState } from 'react'

import type { Case } from '../../api/client'
import { VirtualList } from '../../parts/VirtualList'
import { ListHead } from '../../parts/ListHead'
import { Notice } from '../../parts/Notice'
import { CaseState } from '../../parts/Status'
import { utc } from '../../parts/text'
import { useCases, type Filter } from './queries'

const columns = 'grid grid-cols-[3rem_11rem_9rem_6.5rem_9.5rem_1fr_4rem_8.5rem] gap-x-3 px-4'

export function Cases() {
  const [machine, setMachine] = useState('')
  const [state, setState] = useState<Filter['state']>('')
  const { list, connected } = useCases({ machine: useDeferredValue(machine), state })
  const rows = list.data?.pages.flatMap((p) => p.cases) ?? []
  const total = list.data?.pages[0]?.total ?? 0
  return (
    <main className="flex min-h-0 flex-1 flex-col">
      <ListHead
        title="Cases"
        of={{ text: machine, placeholder: 'part of a machine’s name', label: 'Machine', set: setMachine }}
        state={state}
        setState={setState}
        total={total}
        one="case"
        columns={columns}
        heads={['case', 'machine', 'site', 'state', 'tried', 'likeliest cause', 'proven', 'received (UTC)']}
      >
        {!connected && <span className="text-small text-odd">◆ not live: connecting again</span>}
      </ListHead>
      {list.isPending ? (
        <Notice>Fetching the cases…</Notice>
      ) : list.isLoadingError ? (
        <Notice bad>{list.error.message}</Notice>
      ) : rows.length === 0 ? (
        <Notice>
          {machine || state ? 'No case fits.' : 'No cases yet. Hand one in: '}
          {!machine && !state && <code className="font-mono">diorthos gather …, then diorthos submit BAG</code>}
        </Notice>
      ) : (
        <VirtualList
          rows={rows}
          id={(c: Case) => c.number}
          to={(c) => `/cases/${c.number}`}
          columns={columns}
          more={() => list.hasNextPage && !list.isFetchingNextPage && void list.fetchNextPage()}
          draw={(c) => (
            <>
              <span className="text-right font-semibold">{c.number}</span>
              <span className="truncate">{c.machine}</span>
              <span className="truncate text-soft">{c.site}</span>
              <CaseState state={c.state} />
              <span className="truncate">{c.tried}</span>
              <span className={`truncate ${c.state === 'healthy' ? 'text-soft' : ''}`}>{c.headline ?? c.problem}</span>
              <span>{c.rungs > 0 ? `${c.proven} of ${c.rungs}` : ''}</span>
              <span className="text-soft">{utc(c.received).slice(0, 16)}</span>
            </>
          )}
        />
      )}
    </main>
  )
}
