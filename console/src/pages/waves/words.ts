import type { Rollout, RolloutMember } from '../../api/client'
import type { Tone } from '../../parts/Status'

/** How each state of a roll-out is meant. */
export const toneOf: Record<Rollout['state'], Tone> = {
  going: 'plain',
  paused: 'odd',
  halted: 'bad',
  stopped: 'odd',
  done: 'good',
  'taking back': 'odd',
  'taken back': 'odd',
}

/** How each state of a machine in it is meant. */
export function memberTone(state: RolloutMember['state']): Tone {
  switch (state) {
    case 'proven':
      return 'good'
    case 'failed':
    case 'refused':
    case 'lost':
      return 'bad'
    case 'taken back':
    case 'stopped':
    case 'left out':
      return 'odd'
    default:
      return 'plain'
  }
}
