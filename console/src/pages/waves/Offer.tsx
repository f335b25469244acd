import { useNavigate } from 'react-router'

import type { CohortDetail } from '../../api/client'
import { StatusWord } from '../../parts/Status'
import { useOffer } from './queries'
import { Members } from './WavePage'

/** What helped on machines of a cohort, each to be offered to the others: first who would be in which wave. */
export function Helped({ d }: { d: CohortDetail }) {
  const go = useNavigate()
  const offer = useOffer((r) => void go(`/waves/${r.id}`))
  if (d.helped.length === 0) return <p className="text-soft">Nothing has been tried on these machines yet.</p>
  const preview = offer.data
  return (
    <>
      <ul>
        {d.helped.map((h) => (
          <li key={h.remedy} className="flex flex-wrap items-baseline gap-x-3">
            <StatusWord tone={h.proven > 0 ? 'good' : 'bad'}>{`proven on ${h.proven}, failed on ${h.failed}`}</StatusWord> {h.title || h.remedy}
            {h.proven > 0 && (
              <button type="button" disabled={offer.isPending} onClick={() => offer.mutate({ cohort: d.id, remedy: h.remedy, preview: true })} className="border border-rule bg-sheet px-2 text-small">
                Offer it to the others…
              </button>
            )}
          </li>
        ))}
      </ul>
      {offer.isError && <p className="text-small text-bad">▲ {offer.error.message}</p>}
      {preview && preview.id === 0 && (
        <div className="mt-2 border border-rule bg-sheet px-3 pb-2" role="region" aria-label="Preview">
          <p className="flex flex-wrap items-baseline gap-3 py-1.5">
            <span>
              <b>{preview.title}</b> <span className="text-soft">{`${preview.invasive}, in ${preview.waves} ${preview.waves === 1 ? 'wave' : 'waves'}; each goes on when the proofs of the one before hold. Nothing is begun yet.`}</span>
            </span>
            <button type="button" disabled={offer.isPending} onClick={() => offer.mutate({ cohort: d.id, remedy: preview.remedy, preview: false })} className="ml-auto bg-accent px-3 text-on-accent">
              Begin with the first wave
            </button>
          </p>
          <Members r={preview} />
        </div>
      )}
    </>
  )
}
