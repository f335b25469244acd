import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'

import { api, ask, type Rollout, type SiteRule } from '../../api/client'

/** How often what goes round is looked at anew, in milliseconds. */
const refresh = 3_000

/** Repairs that go round, the latest first. */
export function useRollouts() {
  return useQuery({ queryKey: ['rollouts'], refetchInterval: refresh, queryFn: () => ask(api.GET('/api/v1/rollouts')) })
}

/** One of them with its machines. */
export function useRollout(id: number) {
  return useQuery({ queryKey: ['rollout', id], refetchInterval: refresh, queryFn: () => ask(api.GET('/api/v1/rollouts/{id}', { params: { path: { id } } })) })
}

/** Pauses it, lets it go on, stops it, or takes it back. */
export function useChangeRollout(id: number) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (state: 'going' | 'paused' | 'stopped' | 'taking back') => ask(api.PATCH('/api/v1/rollouts/{id}', { params: { path: { id } }, body: { state } })),
    onSuccess: () => client.invalidateQueries(),
  })
}

/** Offers a repair to a cohort, or only says who would be in which wave. */
export function useOffer(begun?: (r: Rollout) => void) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (body: { cohort: number; remedy: string; preview: boolean }) => ask(api.POST('/api/v1/rollouts', { body })),
    onSuccess: (r, wish) => {
      if (wish.preview) return
      begun?.(r)
      void client.invalidateQueries()
    },
  })
}

/** When orders are begun, by site. */
export function useSiteRules() {
  return useQuery({ queryKey: ['site-rules'], queryFn: () => ask(api.GET('/api/v1/site-rules')) })
}

/** Sets that of a site. */
export function useSetSiteRule(done: () => void) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (body: SiteRule) => ask(api.PUT('/api/v1/site-rules', { body })),
    onSuccess: () => {
      done()
      void client.invalidateQueries({ queryKey: ['site-rules'] })
    },
  })
}
