import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'

import { api, ask } from '../../api/client'

/** How often what the whole fleet does is looked at anew, in milliseconds. */
const refresh = 10_000

/** Failures that are the same, page by page, the one seen last first. */
export function useCohorts() {
  return useInfiniteQuery({
    queryKey: ['cohorts'],
    initialPageParam: 0,
    refetchInterval: refresh,
    queryFn: ({ pageParam }) => ask(api.GET('/api/v1/cohorts', { params: { query: { after: pageParam || undefined, limit: 100 } } })),
    getNextPageParam: (page) => page.next,
  })
}

/** One cohort with its machines and what they share. */
export function useCohort(id: number) {
  return useQuery({
    queryKey: ['cohort', id],
    refetchInterval: refresh,
    queryFn: () => ask(api.GET('/api/v1/cohorts/{id}', { params: { path: { id } } })),
  })
}

/** Failures that are suddenly common. */
export function useOutbreaks() {
  return useQuery({ queryKey: ['outbreaks'], refetchInterval: refresh, queryFn: () => ask(api.GET('/api/v1/outbreaks')) })
}

/** Holds something back because of an outbreak; an empty text lifts it. */
export function useHold() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: ({ id, held }: { id: number; held: string }) => ask(api.PUT('/api/v1/outbreaks/{id}/hold', { params: { path: { id } }, body: { held } })),
    onSuccess: () => void client.invalidateQueries(),
  })
}

/** Names or mutes a cohort. */
export function useChangeCohort(id: number) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (body: { name?: string; muted?: boolean }) => ask(api.PATCH('/api/v1/cohorts/{id}', { params: { path: { id } }, body })),
    onSuccess: () => void client.invalidateQueries(),
  })
}
