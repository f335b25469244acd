import type { QueryClient, QueryKey } from '@tanstack/react-query'

/**
 * Fetches anew what may have changed. A first fetch under way may have been answered before
 * the change and would swallow the call, so it is waited for.
 */
export async function anew(queries: QueryClient, key: QueryKey): Promise<void> {
  const first = queries
    .getQueryCache()
    .findAll({ queryKey: key })
    .filter((q) => q.state.fetchStatus === 'fetching' && q.state.data === undefined)
  await Promise.allSettled(first.map((q) => q.promise))
  await queries.invalidateQueries({ queryKey: key })
}
