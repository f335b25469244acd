import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useCallback } from 'react'

import { anew } from '../../api/anew'
import { api, ask, type Case, type CaseDetail } from '../../api/client'
import { useLive } from '../../api/live'
import { ended } from './AtMachine'

/** One case, live: what is small is shown at once, the docket is fetched when it changed. */
export function useCase(number: number) {
  const queries = useQueryClient()
  const seen = useCallback(
    (changed: Case) => {
      const known = queries.getQueryData<CaseDetail>(['case', number])
      queries.setQueryData<CaseDetail>(['case', number], (old) => old && { ...old, ...changed, progress: changed.progress })
      if (known?.updated !== changed.updated) void anew(queries, ['case', number])
    },
    [queries, number],
  )
  const missed = useCallback(() => void anew(queries, ['case', number]), [queries, number])
  const connected = useLive(`/api/v1/cases/${number}/live`, seen, missed)
  const detail = useQuery({
    queryKey: ['case', number],
    refetchInterval: (q) => (q.state.data?.orders.every(ended) === false ? 2000 : false), // no event tells how an order goes
    queryFn: () => ask(api.GET('/api/v1/cases/{number}', { params: { path: { number } } })),
  })
  return { detail, connected }
}
