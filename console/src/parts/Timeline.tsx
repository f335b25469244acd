import { useMemo, useState, type KeyboardEvent } from 'react'

import type { Docket, Point } from '../api/client'
import { LogAt } from './LogAt'
import { logged } from './text'

type Range = [number, number]

/** What the logs say, drawn to scale in time: a lane for each log, the attempts
 * behind, the decisive event marked, noise folded away. */
export function Timeline({ docket }: { docket: Docket }) {
  const [noise, setNoise] = useState(false)
  const shown = useMemo(() => spread(docket.line.filter((p) => noise || !p.noise)), [docket.line, noise])
  const first = useMemo(() => docket.line.find((p) => p.decisive), [docket.line])
  const bands = useMemo(() => attempts(docket), [docket])
  const whole = useMemo(() => around(shown.map((p) => p.at)), [shown])
  const decisive = shown.findIndex((p) => p.point.decisive)
  const failed = useMemo(() => (decisive >= 0 ? around(shown.filter((p) => p.point.try === shown[decisive]?.point.try).map((p) => p.at)) : whole), [shown, decisive, whole])
  const [range, setRange] = useState<Range>(failed)
  const [picked, setPicked] = useState<Point | undefined>(first) // the record itself: folding noise away moves no selection
  const chosen = shown.findIndex((p) => p.point === picked)
  if (shown.length === 0) return <p className="text-soft">None of the records has a time.</p>
  const noises = docket.line.filter((p) => p.noise).length
  const lanes = [...new Set(shown.map((p) => p.point.file))].sort()
  const at = (t: number) => (100 * (t - range[0])) / (range[1] - range[0])
  const zoom = (by: number) => {
    const selected = shown[chosen]?.at ?? range[0]
    const middle = selected >= range[0] && selected <= range[1] ? selected : (range[0] + range[1]) / 2
    const half = Math.max(((range[1] - range[0]) * by) / 2, 500)
    setRange([middle - half, middle + half])
  }
  const move = (by: number) => {
    const next = Math.min(Math.max(chosen + by, 0), shown.length - 1)
    setPicked(shown[next]?.point)
    const t = shown[next]?.at ?? 0
    const half = (range[1] - range[0]) / 2
    if (t < range[0] || t > range[1]) setRange([t - half, t + half])
  }
  const keys = (e: KeyboardEvent) => {
    const does: Record<string, () => void> = { ArrowRight: () => move(1), ArrowLeft: () => move(-1), '+': () => zoom(0.5), '-': () => zoom(2), Home: () => setRange(whole) }
    const act = does[e.key]
    if (!act) return
    e.preventDefault()
    act()
  }
  const selected = shown[chosen]
  return (
    <div>
      <div className="mb-1 flex items-center gap-2 text-small">
        <ToolButton on={() => zoom(0.5)}>closer</ToolButton>
        <ToolButton on={() => zoom(2)}>wider</ToolButton>
        <ToolButton on={() => setRange(failed)}>the attempt that failed</ToolButton>
        <ToolButton on={() => setRange(whole)}>all</ToolButton>
        {noises > 0 && (
          <button className="ml-auto border border-rule px-2 py-0.5 aria-pressed:bg-sheet" aria-pressed={noise} onClick={() => setNoise(!noise)}>
            {noise ? 'fold' : 'show'} {noises} of noise
          </button>
        )}
      </div>
      <div
        className="grid grid-cols-[9rem_1fr] border border-rule bg-sheet text-tiny"
        role="slider"
        tabIndex={0}
        aria-valuemin={0}
        aria-valuemax={shown.length - 1}
        aria-valuenow={Math.max(chosen, 0)}
        aria-valuetext={shown[chosen]?.point.text}
        aria-label={`${shown.length} records; arrow keys go from record to record, plus and minus zoom`}
        onKeyDown={keys}
      >
        {lanes.map((file) => (
          <div key={file} className="contents">
            <div className="truncate border-r border-rule px-2 py-1 text-soft" title={file}>
              {file}
            </div>
            <div className="relative h-6 overflow-hidden border-b border-rule">
              {bands.map((b) => (
                <div
                  key={b.from}
                  className={b.failed ? 'bg-bad-wash' : 'bg-good-wash'}
                  style={{ position: 'absolute', inset: '0 auto 0 auto', left: `${at(b.from)}%`, width: `max(2px, ${at(b.to) - at(b.from)}%)` }}
                />
              ))}
              {shown.map((p, i) => p.point.file === file && at(p.at) > -1 && at(p.at) < 101 && <Mark key={i} point={p.point} left={at(p.at)} chosen={i === chosen} choose={() => setPicked(p.point)} />)}
            </div>
          </div>
        ))}
        <div className="border-r border-rule" />
        <Axis range={range} at={at} />
      </div>
      {selected && (
        <div className="mt-1 text-small">
          <span className="text-soft">
            {selected.point.about && 'about '}
            {logged(selected.point.time)} · {selected.point.try < 0 ? 'no attempt' : docket.tried[selected.point.try]?.kind || 'attempt'} ·{' '}
          </span>
          <LogAt place={selected.point}>
            <span className="font-mono text-tiny break-words">
              {selected.point.decisive && <span className="text-bad">▲ decisive: </span>}
              {selected.point.text}
            </span>
          </LogAt>
        </div>
      )}
    </div>
  )
}

function ToolButton({ on, children }: { on: () => void; children: string }) {
  return (
    <button className="border border-rule px-2 py-0.5 hover:bg-sheet" onClick={on}>
      {children}
    </button>
  )
}

const weights: Record<string, string> = { error: 'h-4 w-[3px] bg-bad', warning: 'h-3 w-[3px] bg-odd', info: 'h-2 w-[2px] bg-soft' }

function Mark({ point, left, chosen, choose }: { point: Point; left: number; chosen: boolean; choose: () => void }) {
  return (
    <button
      tabIndex={-1}
      onClick={choose}
      title={point.text}
      aria-label={`line ${point.line}`}
      className={`absolute bottom-0 flex h-6 w-2 -translate-x-1/2 items-end justify-center ${chosen ? 'outline-2 outline-accent' : ''} ${point.noise ? 'opacity-40' : ''}`}
      style={{ left: `${left}%` }}
    >
      {point.decisive ? <span className="text-bad">▲</span> : <span className={weights[point.level] ?? weights.info} />}
    </button>
  )
}

const steps = [1, 2, 5, 10, 30, 60, 120, 300, 900, 1800, 3600, 7200, 21600, 43200, 86400, 172800, 604800, 2592000].map((s) => s * 1000)

function Axis({ range, at }: { range: Range; at: (t: number) => number }) {
  const step = steps.find((s) => (range[1] - range[0]) / s <= 8) ?? 31536000000
  const ticks: number[] = []
  const last = range[1] - 0.06 * (range[1] - range[0]) // a label behind it would be cut off
  for (let t = Math.ceil(range[0] / step) * step; t < last; t += step) ticks.push(t)
  return (
    <div className="relative h-5 overflow-hidden text-soft">
      {ticks.map((t) => (
        <span key={t} className="absolute border-l border-rule pl-1 whitespace-nowrap" style={{ left: `${at(t)}%` }}>
          {new Date(t).toISOString().slice(step >= 86400000 ? 0 : 11, step >= 86400000 ? 10 : 19)}
        </span>
      ))}
    </div>
  )
}

/** Records of one moment are laid side by side, in their order, up to the next moment. */
function spread(points: Point[]): { point: Point; at: number }[] {
  const out: { point: Point; at: number }[] = []
  for (let i = 0; i < points.length; ) {
    const first = points[i] as Point
    const t = Date.parse(first.time)
    let end = i
    while (end < points.length && Date.parse((points[end] as Point).time) === t) end++
    const next = end < points.length ? Date.parse((points[end] as Point).time) : t + 1000
    const room = Math.min(next - t, 1000) * 0.9
    for (let k = i; k < end; k++) out.push({ point: points[k] as Point, at: t + (room * (k - i)) / (end - i) })
    i = end
  }
  return out
}

function around(times: number[]): Range {
  const from = Math.min(...times)
  const to = Math.max(...times)
  const margin = Math.max((to - from) * 0.04, 500)
  return [from - margin, to + margin]
}

function attempts(docket: Docket): { from: number; to: number; failed: boolean }[] {
  return docket.tried
    .filter((t) => t.began && !t.began.startsWith('0001'))
    .map((t) => ({ from: Date.parse(t.began as string), to: Date.parse(t.ended ?? (t.began as string)), failed: t.outcome !== 'succeeded' }))
}
