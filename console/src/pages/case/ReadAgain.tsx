import { useMutation, useQueryClient } from '@tanstack/react-query'

import { api, ask } from '../../api/client'

/** Has a case read once more. */
export function ReadAgain({ number }: { number: number }) {
  const client = useQueryClient()
  const again = useMutation({
    mutationFn: () => ask(api.POST('/api/v1/cases/{number}/read', { params: { path: { number } } })),
    onSuccess: () => client.invalidateQueries(),
  })
  return (
    <div className="mt-2">
      <button type="button" onClick={() => again.mutate()} disabled={again.isPending} className="border border-rule bg-sheet px-2 py-0.5 text-small">
        Read it again
      </button>
      {again.isError && <p className="text-small text-bad">▲ {again.error.message}</p>}
    </div>
  )
}
