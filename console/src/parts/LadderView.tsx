import type { CaseDetail, Disk, Run, Rung } from '../api/client'
import { DiskStrip } from './DiskStrip'
import { outcomeTone, StatusWord } from './Status'

/** The ladder, first rung on top; each rung says how invasive it is and how it stands. */
export function LadderView({ rungs, stands, busy, typical, disks }: { rungs: Rung[]; stands: Record<string, Run['outcome']>; busy: boolean; typical: CaseDetail['typical']; disks: Disk[] }) {
  const next = rungs.find((r) => !passedOver(stands[r.number]))
  return (
    <ol className="border border-rule bg-sheet">
      {rungs.map((r, i) => r.general ? <General key={r.number} rung={r} first={!rungs[i - 1]?.general} outcome={stands[r.number]} next={next === r} busy={busy} /> : (
        <li key={r.number} className="grid grid-cols-[2.2rem_1fr] border-t border-rule first:border-t-0">
          <div className="flex justify-center border-r-2 border-accent py-2 font-semibold">{r.number}</div>
          <div className="px-3 py-2">
            <div className="flex items-baseline gap-3">
              <h3 className="font-semibold">{r.title}</h3>
              <span className="text-small text-soft">
                {r.invasive} · {r.by === 'hands' ? 'by hand' : 'by Diorthos'} · about {r.minutes} min{earlier(typical[r.remedy])}
              </span>
              <span className="ml-auto text-small">
                <Standing outcome={stands[r.number]} next={next === r} busy={busy} />
              </span>
            </div>
            <p className="text-small text-soft">{r.why}</p>
            {r.does && <p className="mt-1 max-w-[80ch]">{r.does}</p>}
            {r.action?.startsWith('layout.mend') && <BeforeAfter disk={disks.find((d) => d.source === r.target?.path)} />}
            {r.loans?.map((l) => (
              <p key={l.what} className="text-small">
                <StatusWord tone="odd">borrowed</StatusWord> {l.what}. <span className="text-soft">Given back: {l.back}</span>
              </p>
            ))}
            {r.restart && <p className="text-small text-odd">◆ the machine has to be restarted before the next rung</p>}
            {r.steps && r.steps.length > 0 && (
              <ol className="mt-1 ml-5 list-decimal text-small">
                {r.steps.map((s) => (
                  <li key={s.do} className="py-0.5">
                    {s.do} <span className="text-soft">→ {s.shows}</span>
                  </li>
                ))}
              </ol>
            )}
            {r.proof && (
              <p className="mt-1 text-small">
                <span className="text-soft">proof: </span>
                {r.proof}
              </p>
            )}
          </div>
        </li>
      ))}
    </ol>
  )
}

/** A rung to which nothing points: left to try when what stands above it did not help. */
function General({ rung, first, outcome, next, busy }: { rung: Rung; first: boolean; outcome: Run['outcome'] | undefined; next: boolean; busy: boolean }) {
  return (
    <li className="border-t border-rule first:border-t-0">
      {first && <p className="border-b border-rule px-3 py-1 text-small text-soft">If none of this helps, what is left, the gentle first:</p>}
      <div className="grid grid-cols-[2.2rem_1fr] text-small">
        <div className="flex justify-center border-r-2 border-rule py-1">{rung.number}</div>
        <div className="flex items-baseline gap-3 px-3 py-1">
          <span>{rung.title}</span>
          <span className="text-soft">
            {rung.invasive} · {rung.by === 'hands' ? 'by hand' : 'by Diorthos'} · about {rung.minutes} min
          </span>
          <span className="ml-auto">
            <Standing outcome={outcome} next={next} busy={busy} />
          </span>
        </div>
      </div>
    </li>
  )
}

/** How long it took where it was proven. */
function earlier(t: CaseDetail['typical'][string] | undefined): string {
  return t ? `, ${tookBefore(t)}` : ''
}

export function tookBefore(t: CaseDetail['typical'][string]): string {
  const took = t.seconds < 90 ? `${t.seconds.toFixed(t.seconds < 10 ? 1 : 0)} s` : `${Math.round(t.seconds / 60)} min`
  return `${took} in ${t.runs} earlier ${t.runs === 1 ? 'climb' : 'climbs'}`
}

/** The disk as it was found, and as the rung leaves it: the partitions stay, both copies of the table are whole. */
function BeforeAfter({ disk }: { disk: Disk | undefined }) {
  if (!disk) return null
  const last = disk.size / disk.sectorSize - 1
  const after: Disk = { ...disk, source: 'after', problems: [], primary: { ...disk.primary, state: 'sound', lba: 1 }, backup: { ...disk.backup, state: 'sound', lba: last } }
  return (
    <div className="mt-1 grid grid-cols-2 gap-2">
      <DiskStrip disk={{ ...disk, source: 'before' }} />
      <DiskStrip disk={after} />
    </div>
  )
}

/** Whether the next climb passes a rung over: it was taken, and taking it again would come to the same. */
function passedOver(outcome: Run['outcome'] | undefined): boolean {
  return outcome !== undefined && outcome !== 'stopped' && outcome !== 'cut off' && outcome !== 'planned'
}

function Standing({ outcome, next, busy }: { outcome: Run['outcome'] | undefined; next: boolean; busy: boolean }) {
  if (next && busy) return <StatusWord tone="odd">being climbed</StatusWord>
  if (outcome !== undefined) return <StatusWord tone={outcomeTone(outcome)}>{outcome}</StatusWord>
  return next ? <span>next</span> : <span className="text-soft">not taken</span>
}
