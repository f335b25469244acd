import type { Docket } from '../../api/client'
import { outcomeTone, StatusWord } from '../../parts/Status'
import { logged } from '../../parts/text'

export function Attempts({ list, logs }: { list: Docket['tried']; logs: number }) {
  if (list.length === 0) return <p className="text-soft">{logs === 0 ? 'Not known: no log was handed in.' : 'No attempt stands in these logs.'}</p>
  return (
    <ul>
      {list.map((t, i) => (
        <li key={`${t.began ?? ''}${i}`} className="py-0.5">
          <div className="flex items-baseline gap-4">
            <span>
              {t.kind || 'attempt'} <StatusWord tone={outcomeTone(t.outcome)}>{t.outcome}</StatusWord>
            </span>
            <span className="text-small">
              {t.began ? `${logged(t.began)} to ${t.ended ? logged(t.ended).slice(11) : 'no end noted'}` : 'the log has no times'}
            </span>
            <span className="text-small text-soft">{counted(t.changes)}</span>
          </div>
          {t.command && <div className="font-mono text-tiny text-soft">{t.command}</div>}
          {i === 0 && t.unfinished.length > 0 && (
            <div className="text-small">
              <span className="text-soft">left unfinished: </span>
              {t.unfinished.map((e) => `${e.object ?? ''} ${e.state ?? ''}`).join(', ')}
            </div>
          )}
        </li>
      ))}
    </ul>
  )
}

function counted(changes: Docket['tried'][number]['changes']): string {
  const counts = new Map<string, number>()
  for (const c of changes) counts.set(c.action, (counts.get(c.action) ?? 0) + 1)
  return [...counts].map(([action, n]) => `${action} ${n}`).join(', ')
}
