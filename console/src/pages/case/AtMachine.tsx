import { useMutation, useQueryClient } from '@tanstack/react-query'

import { api, ask, type CaseDetail, type Rung } from '../../api/client'
import { useWho } from '../../api/who'
import { StatusWord, type Tone } from '../../parts/Status'
import { utc } from '../../parts/text'

type Order = CaseDetail['orders'][number]

/** What the agent of the case's machine can be told to do, and what came of it. */
export function AtMachine({ c }: { c: CaseDetail }) {
  const client = useQueryClient()
  const me = useWho()
  const path = { number: c.number }
  const renew = () => client.invalidateQueries()
  const order = useMutation({ mutationFn: (body: { rung: number; back?: boolean }) => ask(api.POST('/api/v1/cases/{number}/orders', { params: { path }, body })), onSuccess: renew })
  const stop = useMutation({
    mutationFn: async (id: number) => {
      const { error, response } = await api.DELETE('/api/v1/cases/{number}/orders/{id}', { params: { path: { ...path, id } } })
      if (!response.ok) throw new Error((error as { detail?: string } | undefined)?.detail ?? `the service answered ${response.status}`)
    },
    onSuccess: renew,
  })
  const going = c.orders.some((o) => !ended(o))
  if (!c.agent && c.orders.length === 0) return null
  const rungs = (c.docket?.toDo ?? []).filter((r) => takes(r) && c.stands[r.number] !== 'proven')
  const mayOrder = me.data !== undefined && me.data.role !== 'see' && c.agent && !c.agent.silent && !going && c.state === 'open'
  const failed = order.error ?? stop.error
  return (
    <div className="mt-2 border border-rule bg-sheet px-3 py-1.5 text-small" aria-label="At the machine" role="region">
      <h3 className="text-tiny text-soft">{heard(c.agent)}</h3>
      {mayOrder && (
        <ul>
          {rungs.map((r) => (
            <li key={r.number} className="flex items-baseline gap-3 py-0.5">
              <span>
                {r.number} {r.title} <span className="text-soft">{r.invasive}</span>
              </span>
              <button type="button" disabled={order.isPending} onClick={() => order.mutate({ rung: r.number })} className="ml-auto border border-rule px-2">
                Take rung {r.number} there
              </button>
            </li>
          ))}
        </ul>
      )}
      <ul>
        {c.orders.map((o, i) => (
          <li key={o.id} className="flex items-baseline gap-3 border-t border-rule py-0.5 first:border-t-0">
            <span className="text-soft">{utc(o.made)}</span>
            <span>
              {o.back && 'take back '}
              {o.rung} {o.title} <span className="text-soft">by {o.by}</span>
            </span>
            <span className="ml-auto max-w-[60ch] text-right">
              <StatusWord tone={tone(o)}>{ended(o) ? o.state : howFar(o, c)}</StatusWord>
              {o.problem && <span className="text-soft"> {o.problem}</span>}
            </span>
            {o.state === 'ordered' && (
              <button type="button" disabled={stop.isPending} onClick={() => stop.mutate(o.id)} className="border border-rule px-2">
                Stop
              </button>
            )}
            {o.state === 'proven' && !o.back && !going && c.orders.findIndex((x) => x.rung === o.rung) === i && c.agent && !c.agent.silent && (
              <button type="button" disabled={order.isPending} onClick={() => order.mutate({ rung: o.rung, back: true })} className="border border-rule px-2">
                Take back
              </button>
            )}
          </li>
        ))}
      </ul>
      {failed && <p className="text-bad">▲ {failed.message}</p>}
    </div>
  )
}

/** An agent takes what Diorthos itself does, and never what destroys. */
function takes(r: Rung): boolean {
  return r.by !== 'hands' && r.invasive !== 'destroys'
}

/** Whether the agent has nothing more to do for an order. */
export function ended(o: Order): boolean {
  return o.state !== 'waiting' && o.state !== 'ordered' && o.state !== 'running'
}

function howFar(o: Order, c: CaseDetail): string {
  if (o.state !== 'running') return 'waits for the agent'
  return c.climbs.find((x) => x.state === 'running')?.phase || 'the agent is at it'
}

function tone(o: Order): Tone {
  if (o.state === 'proven' || o.state === 'taken back') return 'good'
  return o.state === 'failed' || o.state === 'refused' || o.state === 'lost' ? 'bad' : 'odd'
}

function heard(a: CaseDetail['agent']): string {
  if (!a) return 'At the machine: it has no agent any more.'
  const from = a.stick ? ', from a stick' : ''
  if (!a.seen) return `At the machine: its agent${from} was not heard yet.`
  return `At the machine: its agent was heard ${utc(a.seen)}${from}.${a.silent ? ' It is silent, and can be told nothing.' : ' It takes a rung where the machine is, with the same guards, journal and proof.'}`
}
