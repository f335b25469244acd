import type { MachineDetail, State } from '../../api/client'
import { ratingTone, StatusWord } from '../../parts/Status'

/** How the parts of the system stand, each with what was looked at, and what is on offer. */
export function Upkeep({ facts, conditions }: { facts: State; conditions: MachineDetail['conditions'] }) {
  return (
    <>
      <ul className="text-small">
        {conditions.map((c) => (
          <li key={c.id} className="grid grid-cols-[10rem_6rem_1fr] gap-x-2">
            <span>{c.title}</span>
            <StatusWord tone={ratingTone(c.verdict)}>{c.verdict}</StatusWord>
            <span>
              {c.findings && c.findings.length > 1 ? (
                <ul>
                  {c.findings.map((f) => (
                    <li key={f}>{f}</li>
                  ))}
                </ul>
              ) : (
                <span className={c.verdict === 'fit' || c.verdict === 'unknown' ? 'text-soft' : ''}>{c.measured}</span>
              )}
            </span>
          </li>
        ))}
      </ul>
      <ul className="mt-2 text-small">
        {facts.update?.offers.map((o) => (
          <li key={o.id} className="text-soft">
            on offer: {o.title}, {o.kind}, for build {o.base} {o.held && '(held back)'}{' '}
            {o.lacks.map((l) => (
              <StatusWord key={l.kind + l.want} tone="odd">
                {l.kind}: wants {l.want}, has {l.got}
              </StatusWord>
            ))}
          </li>
        ))}
      </ul>
    </>
  )
}
