import { useState, type FormEvent } from 'react'
import { Link } from 'react-router'

import type { CohortDetail, Outbreak, MachineCount } from '../../api/client'
import { Notice } from '../../parts/Notice'
import { Section } from '../../parts/Section'
import { CaseState, StatusWord } from '../../parts/Status'
import { utc } from '../../parts/text'
import { Helped } from '../waves/Offer'
import { useChangeCohort, useCohort, useHold } from './queries'

/** A failure that several machines have: what is the same, what they share, what helped, who. */
export function CohortPage({ number }: { number: number }) {
  const cohort = useCohort(number)
  if (cohort.data) return <Shown d={cohort.data} stale={cohort.error?.message} />
  if (cohort.isPending) return <Notice>Fetching the cohort…</Notice>
  return <Notice bad>{cohort.error?.message}</Notice>
}

function Shown({ d, stale }: { d: CohortDetail; stale?: string }) {
  const f = d.fingerprint
  const same: [string, string | undefined][] = [
    ['cause', f.cause],
    ['kind', f.kind],
    ['of', f.object],
    ['said by', f.speaker],
    ['words', f.template],
    ['stage', f.stage],
    ['link', f.link],
  ]
  return (
    <main className="min-h-0 flex-1 overflow-auto px-4 py-3">
      {stale && <Notice bad>{`Not up to date: ${stale}`}</Notice>}
      <header className="flex flex-wrap items-baseline gap-x-4 border-b border-rule pb-3">
        <h1 className="text-lead font-semibold">{d.name || d.title}</h1>
        <span className="text-soft">{`${d.machines} ${d.machines === 1 ? 'machine' : 'machines'} since ${utc(d.first).slice(0, 16)}`}</span>
        <Naming d={d} />
      </header>
      {d.outbreak && <Going o={d.outbreak} />}
      <Section title="The same in all">
        <dl className="grid grid-cols-[6rem_1fr] gap-x-3">
          {same
            .filter(([, text]) => text)
            .map(([name, text]) => (
              <div key={name} className="contents">
                <dt className="text-soft">{name}</dt>
                <dd className={name === 'words' ? 'font-mono text-small break-words' : ''}>{text}</dd>
              </div>
            ))}
        </dl>
      </Section>
      <Section title="What they share">
        {d.shared.length === 0 ? (
          <p className="text-soft">{`Nothing that could not be so by chance, of ${d.looked} attributes compared with the other machines.`}</p>
        ) : (
          <>
            <table className="w-full max-w-[60rem]">
              <thead className="text-left text-tiny text-soft">
                <tr>
                  <th className="font-normal">attribute</th>
                  <th className="w-40 font-normal">of these</th>
                  <th className="w-40 font-normal">of others</th>
                  <th className="w-40 font-normal">more often by</th>
                </tr>
              </thead>
              <tbody>
                {d.shared.map((s) => (
                  <tr key={s.attribute} className="border-t border-rule">
                    <td className="py-1 font-semibold">{s.attribute}</td>
                    <td>
                      <Bar part={s.failing} of={s.of} />
                    </td>
                    <td>
                      <Bar part={s.others} of={s.ofOthers} />
                    </td>
                    <td>{`${s.low.toFixed(0)} to ${s.high.toFixed(0)} times`}</td>
                  </tr>
                ))}
              </tbody>
            </table>
            <p className="mt-1 text-small text-soft">{`Of ${d.looked} attributes compared; at most one in twenty of these is so by chance.`}</p>
          </>
        )}
      </Section>
      <Section title="Where and when">
        <div className="grid grid-cols-3 gap-x-8">
          <Tallies title="by site" list={d.sites} />
          <Tallies title="by model" list={d.models} />
          <Tallies title="by day" list={d.days} />
        </div>
      </Section>
      <Section title="What helped">
        <Helped d={d} />
      </Section>
      <Section title="Machines">
        <table className="w-full max-w-[60rem]">
          <tbody>
            {d.cases.map((c) => (
              <tr key={c.number} className="border-b border-rule">
                <td className="py-1 font-semibold">
                  <Link to={`/cases/${c.number}`}>{c.machine}</Link>
                </td>
                <td className="text-soft">{c.site}</td>
                <td>
                  <CaseState state={c.state} />
                </td>
                <td className="text-soft">{utc(c.received).slice(0, 16)}</td>
                <td>
                  <Link to={`/machines/${encodeURIComponent(c.machine)}/twin`} className="underline underline-offset-2">
                    twin
                  </Link>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        {d.cases.length < d.machines && <p className="mt-1 text-small text-soft">{`${d.cases.length} of ${d.machines} are shown, the latest.`}</p>}
      </Section>
    </main>
  )
}

function Bar({ part, of }: { part: number; of: number }) {
  const share = of > 0 ? part / of : 0
  return (
    <span className="flex items-center gap-2">
      <span aria-hidden className="inline-block h-2 w-16 border border-rule">
        <span className="block h-full bg-accent" style={{ width: `${100 * share}%` }} />
      </span>
      {`${part} of ${of}`}
    </span>
  )
}

function Tallies({ title, list }: { title: string; list: MachineCount[] }) {
  const most = Math.max(1, ...list.map((t) => t.machines))
  return (
    <div>
      <h3 className="text-tiny text-soft">{title}</h3>
      {list.map((t) => (
        <div key={t.what} className="grid grid-cols-[1fr_5rem_2rem] items-center gap-2">
          <span className="truncate">{t.what}</span>
          <span aria-hidden className="h-2">
            <span className="block h-full bg-accent" style={{ width: `${(100 * t.machines) / most}%` }} />
          </span>
          <span className="text-right">{t.machines}</span>
        </div>
      ))}
    </div>
  )
}

function Naming({ d }: { d: CohortDetail }) {
  const change = useChangeCohort(d.id)
  const [name, setName] = useState<string>()
  const submit = (event: FormEvent) => {
    event.preventDefault()
    change.mutate({ name: name?.trim() ?? '' }, { onSuccess: () => setName(undefined) })
  }
  return (
    <span className="ml-auto flex items-center gap-3 text-small">
      {change.isError && <span className="text-bad">{change.error.message}</span>}
      {name === undefined ? (
        <button type="button" onClick={() => setName(d.name ?? '')} className="underline underline-offset-2">
          Name it
        </button>
      ) : (
        <form onSubmit={submit} className="flex gap-2">
          <input value={name} onChange={(e) => setName(e.target.value)} maxLength={120} aria-label="Name of the cohort" className="border border-rule bg-sheet px-2" />
          <button type="submit" className="underline underline-offset-2">
            Keep
          </button>
        </form>
      )}
      <button type="button" onClick={() => change.mutate({ muted: !d.muted })} className="underline underline-offset-2">
        {d.muted ? 'Tell people again' : 'Mute'}
      </button>
    </span>
  )
}

function Going({ o }: { o: Outbreak }) {
  const hold = useHold()
  const [what, setWhat] = useState(o.suspect ?? '')
  const held = o.held && !o.liftedAt
  const submit = (event: FormEvent) => {
    event.preventDefault()
    if (what.trim()) hold.mutate({ id: o.id, held: what.trim() }, { onSuccess: () => setWhat('') })
  }
  return (
    <Section title="Outbreak">
      <p>
        <StatusWord tone="bad">{`raised ${utc(o.raised).slice(0, 16)} at machine ${o.machines}`}</StatusWord>{' '}
        <span className="text-soft">by</span> <Link to={`/cases/${o.by}`} className="underline underline-offset-2">{`case ${o.by}`}</Link>
        <span className="text-soft">{`; it came to ${o.watch.recentFailed} of ${o.watch.recentTried} machines that were tried, and before to ${o.watch.failed} of ${o.watch.tried}`}</span>
      </p>
      {held ? (
        <p className="mt-1">
          <span className="font-semibold">{o.held}</span> <span className="text-soft">{`is held back by ${o.heldBy}, on ${o.heldOn ?? 0} of ${o.heldOf ?? 0} machines with an agent`}</span>{' '}
          <button type="button" onClick={() => hold.mutate({ id: o.id, held: '' })} className="underline underline-offset-2">
            Lift
          </button>
        </p>
      ) : (
        <form onSubmit={submit} className="mt-1 flex gap-2">
          <input value={what} onChange={(e) => setWhat(e.target.value)} maxLength={200} aria-label="What to hold back" placeholder="a release, an update or a package" className="w-80 border border-rule bg-sheet px-2 py-0.5" />
          <button type="submit" className="bg-accent px-3 text-on-accent">
            Hold back
          </button>
        </form>
      )}
      {held &&
        o.holdProblems?.slice(0, 3).map((m) => (
          <p key={m.machine} className="text-small">
            <StatusWord tone="bad">{m.machine}</StatusWord> {m.problem}
          </p>
        ))}
      {hold.isError && <p className="text-bad">{hold.error.message}</p>}
    </Section>
  )
}
