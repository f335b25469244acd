import { useInfiniteQuery, useQueryClient } from '@tanstack/react-query'
import { useCallback, useRef } from 'react'

import { anew } from '../../api/anew'
import { api, ask, type Case } from '../../api/client'
import { useLive } from '../../api/live'

export interface Filter {
  machine: string
  state: Case['state'] | ''
}

/** The list of cases, page by page, renewed while anything changes. */
export function useCases(filter: Filter) {
  const queries = useQueryClient()
  const timer = useRef<number>(undefined)
  const changed = useCallback(() => {
    // Many changes at once renew the list once; changes without end renew it all the same.
    timer.current ??= window.setTimeout(() => {
      timer.current = undefined
      void anew(queries, ['cases'])
    }, 150)
  }, [queries])
  const connected = useLive('/api/v1/live', changed, changed)
  const list = useInfiniteQuery({
    queryKey: ['cases', filter],
    initialPageParam: 0,
    queryFn: ({ pageParam }) =>
      ask(
        api.GET('/api/v1/cases', {
          params: { query: { machine: filter.machine || undefined, state: filter.state || undefined, before: pageParam || undefined, limit: 100 } },
        }),
      ),
    getNextPageParam: (page) => page.next,
  })
  return { list, connected }
}
