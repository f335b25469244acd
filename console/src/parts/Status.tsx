import type { ReactNode } from 'react'

import type { Case, Verdict } from '../api/client'

const shapes: Record<Case['state'], string> = { received: '○', reading: '◔', open: '●', climbing: '◑', unreadable: '✕', healthy: '·', closed: '✓' }

/** All states of a case, in the order in which it passes through them. */
export const states = Object.keys(shapes) as Case['state'][]

/** A state as a shape and a word. */
export function CaseState({ state }: { state: Case['state'] }) {
  return (
    <span className={state === 'unreadable' ? 'text-bad' : 'text-ink'}>
      <span aria-hidden className="mr-1.5 inline-block w-3 text-center">
        {shapes[state]}
      </span>
      {state}
    </span>
  )
}

export type Tone = 'good' | 'bad' | 'odd' | 'plain'

const tones: Record<Tone, { shape: string; text: string }> = {
  good: { shape: '✓', text: 'text-good' },
  bad: { shape: '▲', text: 'text-bad' },
  odd: { shape: '◆', text: 'text-odd' },
  plain: { shape: '·', text: 'text-soft' },
}

/** A word with the shape that says the same. */
export function StatusWord({ tone, children }: { tone: Tone; children: ReactNode }) {
  return (
    <span className={`whitespace-nowrap ${tones[tone].text}`}>
      <span aria-hidden className="mr-1">
        {tones[tone].shape}
      </span>
      {children}
    </span>
  )
}

/** How a rung or an attempt ended. */
export function outcomeTone(outcome: string): Tone {
  if (outcome === 'proven' || outcome === 'succeeded') return 'good'
  if (outcome === 'taken back' || outcome === 'planned' || outcome === 'stopped') return 'odd'
  if (outcome === 'nothing to do') return 'plain'
  return 'bad'
}

/** How a verdict is shown. */
export function ratingTone(rating: Verdict['verdict']): Tone {
  return ({ fit: 'good', unfit: 'bad', doubtful: 'odd', unknown: 'plain' } as const)[rating]
}
