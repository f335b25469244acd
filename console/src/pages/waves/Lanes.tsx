import type { Rollout } from '../../api/client'
import { StatusWord, type Tone } from '../../parts/Status'

const parts: { of: keyof Rollout['tally']; word: string; tone: Tone; fill: string }[] = [
  { of: 'proven', word: 'proven', tone: 'good', fill: 'bg-good' },
  { of: 'failed', word: 'failed', tone: 'bad', fill: 'bg-bad' },
  { of: 'lost', word: 'lost', tone: 'bad', fill: 'bg-bad' },
  { of: 'takenBack', word: 'taken back', tone: 'odd', fill: 'bg-odd' },
  { of: 'running', word: 'running', tone: 'plain', fill: 'bg-accent' },
  { of: 'waiting', word: 'waiting', tone: 'plain', fill: 'bg-rule' },
]

/** How many machines of a roll-out are in which state, drawn to scale, with the words that say the same. */
export function Lanes({ tally }: { tally: Rollout['tally'] }) {
  const there = parts.filter((p) => tally[p.of] > 0)
  const total = there.reduce((n, p) => n + tally[p.of], 0)
  return (
    <span className="min-w-0">
      <span aria-hidden className="flex h-2.5 border border-rule bg-empty">
        {there.map((p) => (
          <span key={p.of} className={p.fill} style={{ width: `${(100 * tally[p.of]) / Math.max(1, total)}%` }} />
        ))}
      </span>
      <span className="flex flex-wrap gap-x-3 text-small">
        {there.map((p) => (
          <StatusWord key={p.of} tone={p.tone}>{`${tally[p.of]} ${p.word}`}</StatusWord>
        ))}
        {there.length === 0 && <span className="text-soft">no machine yet</span>}
      </span>
    </span>
  )
}
