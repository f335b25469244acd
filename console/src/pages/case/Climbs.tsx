import { useEffect, useState } from 'react'
import type { CaseDetail, Climb, Run } from '../../api/client'
import { tookBefore } from '../../parts/LadderView'
import { outcomeTone, StatusWord } from '../../parts/Status'
import { bytes, utc } from '../../parts/text'

export function Climbs({ list, rungs, typical }: { list: Climb[]; rungs: NonNullable<CaseDetail['docket']>['toDo']; typical: CaseDetail['typical'] }) {
  return (
    <ul className="space-y-2">
      {list.map((c) => (
        <li key={c.id}>
          <div className="text-small">
            {utc(c.began)} UTC, {c.by} on {c.host}: {c.state}
          </div>
          {c.state === 'running' && <RunningClimb climb={c} minutes={rungs.find((r) => r.number === c.rung)?.minutes} typical={typical[rungs.find((r) => r.number === c.rung)?.remedy ?? '']} />}
          {c.runs.map((r) => (
            <RunView key={r.began} run={r} />
          ))}
          {c.problem && <p className="text-small text-bad">▲ {c.problem}</p>}
        </li>
      ))}
    </ul>
  )
}

/** What a climb is doing, for how long, and how long it will go on by what it took before. */
function RunningClimb({ climb, minutes, typical }: { climb: Climb; minutes: number | undefined; typical: CaseDetail['typical'][string] | undefined }) {
  const [now, setNow] = useState(() => Date.now())
  useEffect(() => {
    const tick = setInterval(() => setNow(Date.now()), 1000)
    return () => clearInterval(tick)
  }, [])
  const spent = Math.max(0, Math.round((now - Date.parse(climb.began)) / 1000))
  const left = typical && Math.round(typical.seconds) - spent
  return (
    <p className="text-small">
      {climb.rung ? `rung ${climb.rung}, ` : ''}
      {climb.phase} for {spent} s;{' '}
      {typical === undefined && minutes !== undefined && `about ${minutes} min by the book`}
      {typical !== undefined && left !== undefined && (left > 0 ? `about ${left} s left (${tookBefore(typical)})` : `longer than ${tookBefore(typical)}`)}
    </p>
  )
}

/** How the failed attempt went when it was made again on a copy. */
const trialTone = { 'goes through': 'good', 'still fails': 'bad', 'not made': 'plain', 'tells nothing': 'plain' } as const

function RunView({ run }: { run: Run }) {
  return (
    <div className="mt-1 border border-rule bg-sheet px-3 py-1.5 text-small">
      <div className="flex gap-4">
        <span className="font-semibold">rung {run.rung}</span>
        <StatusWord tone={outcomeTone(run.outcome)}>{run.outcome}</StatusWord>
        {run.journal && <code className="ml-auto truncate font-mono text-tiny text-soft">diorthos undo {run.journal}</code>}
      </div>
      <ul>
        <Checks list={run.guard} word="guard" />
        {run.did?.map((d) => (
          <li key={d} className="grid grid-cols-[5rem_1fr]">
            <span className="text-soft">did</span>
            <span>{d}</span>
          </li>
        ))}
        {run.notes?.map((n) => (
          <li key={n} className="grid grid-cols-[5rem_1fr]">
            <span className="text-odd">◆ note</span>
            <span>{n}</span>
          </li>
        ))}
        {grouped(run.planned).map((w) => (
          <li key={`${w.offset}${w.what}`} className="grid grid-cols-[5rem_1fr]">
            <span className="text-soft">write</span>
            <span>
              {w.what} {w.length > 0 && `(${bytes(w.length)})`} {w.offset >= 0 && `at byte ${w.offset}`}
            </span>
          </li>
        ))}
        <Checks list={run.proof} word="proof" />
        {run.again && (
          <li className="grid grid-cols-[5rem_1fr]">
            <StatusWord tone={trialTone[run.again.outcome]}>again</StatusWord>
            <span>
              {run.again.outcome === 'not made' ? 'not made' : `${run.again.outcome} on a copy`}: <code className="font-mono">{run.again.command}</code>
              {run.again.why && <span className="text-soft">: {run.again.why}</span>}
            </span>
          </li>
        )}
      </ul>
    </div>
  )
}

/** Writes that are for the same thing, as one. */
function grouped(list: Run['planned']): Run['planned'] {
  const out = new Map<string, Run['planned'][number]>()
  for (const w of list) {
    const have = out.get(w.what)
    out.set(w.what, have ? { ...have, length: have.length + w.length } : w)
  }
  return [...out.values()]
}

function Checks({ list, word }: { list: Run['guard']; word: string }) {
  return list.map((c) => (
    <li key={c.what} className="grid grid-cols-[5rem_1fr]">
      <StatusWord tone={c.ok ? 'good' : 'bad'}>{word}</StatusWord>
      <span>
        {c.what}: <span className="text-soft">{c.saw}</span>
        {c.screen && c.screen.length > 0 && (
          <details open={!c.ok}>
            <summary className="cursor-pointer text-soft">what its screen showed last</summary>
            <pre className="mt-1 max-h-80 overflow-auto border border-rule bg-ground px-2 py-1 font-mono text-tiny" aria-label="What its screen showed last">
              {c.screen.join('\n')}
            </pre>
          </details>
        )}
      </span>
    </li>
  ))
}
