import type { Finding, KindShare, State } from '../../api/client'
import { EvidenceList } from '../../parts/Evidence'
import { percent } from '../../parts/text'

export function Why({ findings, kinds = [], looked, headline, sound = true }: { findings: Finding[]; kinds?: KindShare[]; looked?: State['looked']; headline?: string; sound?: boolean }) {
  if (findings.length === 0) {
    return (
      <>
        {!sound && <p className="text-bad">▲ {headline}</p>}
        <p className={sound ? 'text-good' : 'text-soft'}>{sound ? '✓ Nothing wrong was found' : 'Nothing else was found'} in what was looked at{looked ? ':' : ': the logs, and the tables of the disks.'}</p>
        {looked && (
          <ul className="mt-1 text-small">
            {looked.map((l) => (
              <li key={l.part} className={l.problem ? 'text-bad' : ''}>
                {l.part}: {l.problem ? `could not be looked at: ${l.problem}` : l.saw}
              </li>
            ))}
          </ul>
        )}
      </>
    )
  }
  const kind = kinds[0]
  // Where one cause says all that is known of the kind, the kind adds nothing.
  const tellsMore = kind && (kind.kind !== findings[0]?.kind || kind.probability > (findings[0]?.probability ?? 0) + 0.01)
  return (
    <>
      {tellsMore && (
        <p className="mb-2 flex items-baseline gap-3">
          <span className="w-14 text-right font-semibold whitespace-nowrap">{percent(kind.probability)}</span>
          <span>of the kind: {kind.title}</span>
        </p>
      )}
      <ul className="space-y-3">
        {findings.map((f) => (
          <li key={f.cause + f.explains}>
            <div className="flex items-baseline gap-3">
              <span className="w-14 text-right font-semibold whitespace-nowrap">{percent(f.probability)}</span>
              <h3 className="font-semibold">{f.title}{f.kindOnly ? <span className="font-normal"> · the kind only: no closer cause is known</span> : null}</h3>
              <span className="text-small text-soft">{f.explains !== 'start' ? 'why the attempt failed' : f.possible ? 'what can keep it from starting' : 'why it does not start'}</span>
            </div>
            <div className="ml-15">
              <p className="max-w-[85ch]">{f.tell}</p>
              <ul className="mt-1 text-small">
                <EvidenceList list={f.for} tone="good" word="for" />
                <EvidenceList list={f.against} tone="plain" word="against" />
              </ul>
            </div>
          </li>
        ))}
      </ul>
    </>
  )
}
