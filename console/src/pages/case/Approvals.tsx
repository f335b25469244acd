import { useMutation, useQueryClient } from '@tanstack/react-query'

import { api, ask, type CaseDetail } from '../../api/client'
import { useWho } from '../../api/who'
import { StatusWord } from '../../parts/Status'
import { utc } from '../../parts/text'

/** The rungs to which somebody has to agree before they are taken, and who did. */
export function Approvals({ c }: { c: CaseDetail }) {
  const client = useQueryClient()
  const me = useWho()
  const approve = useMutation({
    mutationFn: (rung: number) => ask(api.POST('/api/v1/cases/{number}/approvals', { params: { path: { number: c.number } }, body: { rung } })),
    onSuccess: () => client.invalidateQueries(),
  })
  const rungs = (c.docket?.toDo ?? []).filter((r) => r.by !== 'hands' && (r.invasive === 'disrupts' || r.invasive === 'destroys') && c.stands[r.number] !== 'proven')
  if (rungs.length === 0) return null
  const may = me.data?.role === 'approve' || me.data?.role === 'administer'
  return (
    <div className="mt-2 border border-rule bg-sheet px-3 py-1.5 text-small">
      <h3 className="text-tiny text-soft">Agreed to, within a day. What destroys needs another person than who takes it.</h3>
      <ul>
        {rungs.map((r) => {
          const by = c.approvals.filter((a) => a.remedy === r.remedy)
          return (
            <li key={r.number} className="flex items-baseline gap-3 py-0.5">
              <span>
                {r.number} {r.title} <span className="text-soft">{r.invasive}</span>
              </span>
              <span className="ml-auto">
                {by.length === 0 ? <StatusWord tone="plain">nobody yet</StatusWord> : <StatusWord tone="good">{by.map((a) => `${a.by}, ${utc(a.at)}`).join('; ')}</StatusWord>}
              </span>
              {may && !by.some((a) => a.by === me.data?.name) && (
                <button type="button" disabled={approve.isPending} onClick={() => approve.mutate(r.number)} className="border border-rule px-2">
                  Agree to rung {r.number}
                </button>
              )}
            </li>
          )
        })}
      </ul>
      {approve.isError && <p className="text-bad">▲ {approve.error.message}</p>}
    </div>
  )
}
