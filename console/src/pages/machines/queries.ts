import { useInfiniteQuery } from '@tanstack/react-query'

import { api, ask, type Case } from '../../api/client'

export interface Filter {
  name: string
  state: Case['state'] | ''
}

/** The list of machines, page by page, in the order of their names. */
export function useMachines(filter: Filter) {
  return useInfiniteQuery({
    queryKey: ['machines', filter],
    initialPageParam: '',
    queryFn: ({ pageParam }) =>
      ask(
        api.GET('/api/v1/machines', {
          params: { query: { name: filter.name || undefined, state: filter.state || undefined, after: pageParam || undefined, limit: 100 } },
        }),
      ),
    getNextPageParam: (page) => page.next,
  })
}
