import type { Cohort } from '../../api/client'
import { Notice } from '../../parts/Notice'
import { StatusWord } from '../../parts/Status'
import { VirtualList } from '../../parts/VirtualList'
import { utc } from '../../parts/text'
import { useCohorts } from './queries'

const columns = 'grid grid-cols-[5rem_8rem_1fr_16rem_9rem_9rem] gap-x-3 px-4'

/** Failures that several machines have, the one seen last first. */
export function Cohorts() {
  const list = useCohorts()
  const rows = list.data?.pages.flatMap((p) => p.cohorts) ?? []
  return (
    <main className="flex min-h-0 flex-1 flex-col">
      <header className="border-b border-rule bg-sheet pt-2">
        <div className="flex items-baseline gap-3 px-4">
          <h1 className="text-lead font-semibold">Cohorts</h1>
          <span className="text-soft">cases that are the same failure</span>
        </div>
        <div className={`${columns} mt-2 text-tiny text-soft`}>
          {['machines', '', 'failure', 'of', 'first (UTC)', 'last (UTC)'].map((h, i) => (
            <span key={i} className={i === 0 ? 'text-right' : ''}>
              {h}
            </span>
          ))}
        </div>
      </header>
      {list.isPending ? (
        <Notice>Fetching the cohorts…</Notice>
      ) : list.isLoadingError ? (
        <Notice bad>{list.error.message}</Notice>
      ) : rows.length === 0 ? (
        <Notice>No machine has failed yet. The first case makes a cohort.</Notice>
      ) : (
        <VirtualList
          rows={rows}
          id={(c: Cohort) => String(c.id)}
          to={(c) => `/cohorts/${c.id}`}
          columns={columns}
          more={() => list.hasNextPage && !list.isFetchingNextPage && void list.fetchNextPage()}
          draw={(c) => (
            <>
              <span className="text-right font-semibold">{c.machines}</span>
              <span>{c.muted ? <StatusWord tone="plain">muted</StatusWord> : c.outbreak ? <StatusWord tone="bad">outbreak</StatusWord> : null}</span>
              <span className="truncate font-semibold">{c.name || c.title}</span>
              <span className="truncate text-soft">{c.fingerprint.object ?? c.fingerprint.link ?? ''}</span>
              <span className="text-soft">{utc(c.first).slice(0, 16)}</span>
              <span className="text-soft">{utc(c.last).slice(0, 16)}</span>
            </>
          )}
        />
      )}
    </main>
  )
}
