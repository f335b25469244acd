import { Link } from 'react-router'

import type { Rollout, RolloutMember } from '../../api/client'
import { Notice } from '../../parts/Notice'
import { Section } from '../../parts/Section'
import { StatusWord } from '../../parts/Status'
import { utc } from '../../parts/text'
import { Lanes } from './Lanes'
import { useChangeRollout, useRollout } from './queries'
import { memberTone, toneOf } from './words'

/** A repair that goes round: how far it came, wave by wave, and what may be done about it. */
export function WavePage({ number }: { number: number }) {
  const rollout = useRollout(number)
  if (rollout.data) return <Shown r={rollout.data} stale={rollout.error?.message} />
  if (rollout.isPending) return <Notice>Fetching the roll-out…</Notice>
  return <Notice bad>{rollout.error?.message}</Notice>
}

/** What may be done in which state, in words. */
const ways: Record<Rollout['state'], { to: 'going' | 'paused' | 'stopped' | 'taking back'; word: string }[]> = {
  going: [
    { to: 'paused', word: 'Pause' },
    { to: 'stopped', word: 'Stop' },
  ],
  paused: [
    { to: 'going', word: 'Go on' },
    { to: 'stopped', word: 'Stop' },
  ],
  halted: [
    { to: 'going', word: 'Go on all the same' },
    { to: 'stopped', word: 'Stop' },
  ],
  stopped: [{ to: 'taking back', word: 'Take back' }],
  done: [{ to: 'taking back', word: 'Take back' }],
  'taking back': [],
  'taken back': [],
}

function Shown({ r, stale }: { r: Rollout; stale?: string }) {
  const change = useChangeRollout(r.id)
  return (
    <main className="min-h-0 flex-1 overflow-auto px-4 pb-16">
      {stale && <Notice bad>{`Not up to date: ${stale}`}</Notice>}
      <header className="flex flex-wrap items-baseline gap-x-4 border-b border-rule py-3">
        <h1 className="text-lead font-semibold">{r.title}</h1>
        <StatusWord tone={toneOf[r.state]}>{r.state}</StatusWord>
        <span className="text-soft">{`${r.invasive} · begun ${utc(r.begun).slice(0, 16)} by ${r.by}, for `}</span>
        <Link to={`/cohorts/${r.cohort}`} className="-ml-3 underline underline-offset-2">{`cohort ${r.cohort}`}</Link>
        <span className="ml-auto flex gap-2">
          {ways[r.state].map((w) => (
            <button key={w.to} type="button" disabled={change.isPending} onClick={() => change.mutate(w.to)} className="border border-rule bg-sheet px-3 py-0.5">
              {w.word}
            </button>
          ))}
        </span>
      </header>
      {change.isError && <p className="text-bad">▲ {change.error.message}</p>}
      {r.why && <p className="mt-2">{r.why}</p>}
      <Section title="So far">
        <div className="max-w-[40rem]">
          <Lanes tally={r.tally} />
        </div>
      </Section>
      <Members r={r} />
    </main>
  )
}

/** The machines of a roll-out, wave by wave. Those that are left out stand last, with the reason. */
export function Members({ r }: { r: Rollout }) {
  const waves = Array.from({ length: r.waves }, (_, i) => i + 1)
  const out = r.members.filter((m) => m.wave === 0)
  return (
    <>
      {waves.map((n) => (
        <Section key={n} title={`Wave ${n}${n === r.wave && r.state === 'going' ? ', now' : ''}`}>
          <Machines list={r.members.filter((m) => m.wave === n)} />
        </Section>
      ))}
      {out.length > 0 && (
        <Section title="Left out">
          <Machines list={out} />
        </Section>
      )}
    </>
  )
}

const shown = 60

function Machines({ list }: { list: RolloutMember[] }) {
  return (
    <>
      <ul className="grid grid-cols-2 gap-x-8">
        {list.slice(0, shown).map((m) => (
          <li key={m.machine} className="grid grid-cols-[8.5rem_1fr] items-baseline gap-x-3 border-b border-rule py-0.5">
            <StatusWord tone={memberTone(m.state)}>{m.state}</StatusWord>
            <span className="min-w-0">
              {m.case ? (
                <Link to={`/cases/${m.case}`} className="font-semibold underline underline-offset-2">
                  {m.machine}
                </Link>
              ) : (
                <span className="font-semibold">{m.machine}</span>
              )}{' '}
              <span className="text-small text-soft">{m.site}</span>
              {m.problem && <span className="block text-small text-soft">{m.problem}</span>}
            </span>
          </li>
        ))}
      </ul>
      {list.length > shown && <p className="text-small text-soft">{`and ${list.length - shown} more`}</p>}
    </>
  )
}
