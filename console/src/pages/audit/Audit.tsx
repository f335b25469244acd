import { useInfiniteQuery, useQuery } from '@tanstack/react-query'

import { api, ask } from '../../api/client'
import { Notice } from '../../parts/Notice'
import { StatusWord } from '../../parts/Status'
import { utc } from '../../parts/text'

const columns = 'grid grid-cols-[3.5rem_10.5rem_9rem_6rem_9rem_12rem_1fr_8rem] gap-x-3 px-4'

/** Who did what to what, the newest first. */
export function Audit() {
  const list = useInfiniteQuery({
    queryKey: ['audit'],
    initialPageParam: 0,
    queryFn: ({ pageParam }) => ask(api.GET('/api/v1/audit', { params: { query: { before: pageParam || undefined, limit: 200 } } })),
    getNextPageParam: (page) => page.next,
  })
  const check = useQuery({ queryKey: ['audit', 'check'], queryFn: () => ask(api.GET('/api/v1/audit/check')), enabled: false })
  if (list.isPending) return <Notice>Fetching the audit…</Notice>
  if (list.isLoadingError) return <Notice bad>{list.error.message}</Notice>
  const entries = list.data.pages.flatMap((p) => p.entries)
  return (
    <main className="flex min-h-0 flex-1 flex-col">
      <div className="flex items-center gap-4 px-4 py-2">
        <h1 className="text-lead font-semibold">Audit</h1>
        <button type="button" onClick={() => void check.refetch()} disabled={check.isFetching} className="border border-rule bg-sheet px-2 py-0.5 text-small">
          Hold every entry against the one before it
        </button>
        {check.isError && <span className="text-small text-bad">▲ {check.error.message}</span>}
        {check.data &&
          (check.data.problem ? (
            <span className="text-small text-bad">▲ {check.data.problem}</span>
          ) : (
            <span className="text-small text-good">
              ✓ {check.data.entries} {check.data.entries === 1 ? 'entry' : 'entries'}, each follows from the one before it
            </span>
          ))}
      </div>
      <div className={`${columns} border-b border-rule pb-1 text-tiny text-soft`} role="presentation">
        {['', 'when (UTC)', 'who', '', 'what', 'to', '', 'from'].map((h, i) => (
          <span key={i}>{h}</span>
        ))}
      </div>
      {entries.length === 0 ? (
        <Notice>Nothing has been done yet.</Notice>
      ) : (
        <ol className="min-h-0 flex-1 overflow-auto bg-sheet text-small">
          {entries.map((e) => (
            <li key={e.number} className={`${columns} border-b border-rule py-1`}>
              <span className="text-right text-soft">{e.number}</span>
              <span className="text-soft">{utc(e.at)}</span>
              <span className="truncate" title={e.token}>
                {e.who || '–'}
              </span>
              <StatusWord tone={e.outcome === 'done' ? 'good' : 'bad'}>{e.outcome}</StatusWord>
              <span>{e.action}</span>
              <span className="truncate" title={e.object}>
                {e.object}
              </span>
              <span className="truncate text-soft" title={e.detail}>
                {e.detail}
              </span>
              <span className="text-soft">{e.address}</span>
            </li>
          ))}
          {list.hasNextPage && (
            <li className="px-4 py-2">
              <button type="button" onClick={() => void list.fetchNextPage()} disabled={list.isFetchingNextPage} className="underline underline-offset-2">
                Earlier ones
              </button>
            </li>
          )}
        </ol>
      )}
    </main>
  )
}
