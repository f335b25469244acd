import type { State } from '../../api/client'
import { Said } from '../../parts/State'

/** Pending work, settings and the update client: what is not as it should be, in words. */
export function Upkeep({ facts }: { facts: State }) {
  const faults = [
    ...(facts.pending && !facts.pending.whole ? [`pending work ${facts.pending.transaction} breaks off after ${facts.pending.operations} operations`] : []),
    ...(facts.pending?.gone.map((g) => `${g.operations} of ${facts.pending?.operations} pending operations refer to ${g.component} ${g.version}, which is gone`) ?? []),
    ...(facts.settings?.map((s) => `setting ${s.branch} ${s.name ?? ''}: ${s.kind}: ${s.got}; the release ships ${s.want}`) ?? []),
    ...(facts.update?.pausedUntil ? [`updates are paused until ${facts.update.pausedUntil}`] : []),
    ...(facts.update?.cacheLocked ? ['the download cache cannot be written'] : []),
    ...(facts.update?.cacheDamaged?.map((d) => `${d.name} is not what the catalogue says`) ?? []),
    ...(facts.update?.leftovers?.map((l) => `${l} is left of an earlier attempt`) ?? []),
    ...(facts.fileSystems?.map((f) => `partition ${f.partition}: ${f.text}`) ?? []),
  ]
  return (
    <ul className="text-small">
      {faults.map((f) => (
        <li key={f}>
          <Said tone="bad">{f}</Said>
        </li>
      ))}
      {faults.length === 0 && (
        <li>
          <Said tone="good">settings, pending work, file systems and update client are as they should be</Said>
        </li>
      )}
      {facts.update?.offers.map((o) => (
        <li key={o.id} className="text-soft">
          on offer: {o.title}, {o.kind}, for build {o.base} {o.held && '(held back)'}{' '}
          {o.lacks.map((l) => (
            <Said key={l.kind + l.want} tone="odd">
              {l.kind}: wants {l.want}, has {l.got}
            </Said>
          ))}
        </li>
      ))}
    </ul>
  )
}
