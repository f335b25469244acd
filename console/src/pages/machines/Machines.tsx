import { useDeferredValue, useState } from 'react'

import type { MachineSummary } from '../../api/client'
import { VirtualList } from '../../parts/VirtualList'
import { ListHead } from '../../parts/ListHead'
import { Notice } from '../../parts/Notice'
import { CaseState } from '../../parts/Status'
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
      <ListHead
        title="Machines"
        of={{ text: name, placeholder: 'part of a name or a site', label: 'Name or site', set: setName }}
        state={state}
        setState={setState}
        total={total}
        one="machine"
        columns={columns}
        heads={['machine', 'site', 'model', 'case', 'state', 'likeliest cause', 'seen (UTC)']}
      />
      {list.isPending ? (
        <Notice>Fetching the machines…</Notice>
      ) : list.isLoadingError ? (
        <Notice bad>{list.error.message}</Notice>
      ) : rows.length === 0 ? (
        <Notice>{name || state ? 'No machine fits.' : 'No machine is known yet. One is known from its first case on.'}</Notice>
      ) : (
        <VirtualList
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
              <span className="truncate">{m.state === 'healthy' ? '' : m.headline}</span>
              <span className="text-soft">{utc(m.seen).slice(0, 16)}</span>
            </>
          )}
        />
      )}
    </main>
  )
}
