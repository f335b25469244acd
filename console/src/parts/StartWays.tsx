import type { Way } from '../api/client'

/** Each way in which the firmware could start the machine, in its order, in a row of its own. */
export function StartWays({ ways }: { ways: Way[] }) {
  return (
    <ol className="mt-2 text-small" aria-label="Ways to start, in the firmware's order">
      <li className="text-tiny text-soft">Ways to start, in the firmware's order</li>
      {ways.map((w, i) => {
        const broken = w.chain?.find((l) => l.fault)
        const text = broken ? `${broken.kind}, ${broken.what}: ${broken.saw}` : w.chain?.length ? 'holds, as far as it is followed' : w.note
        return (
          <li key={`${i} ${w.entry}`} className="flex gap-2 border-b border-rule py-0.5">
            <span aria-hidden className={`w-4 ${broken ? 'text-bad' : w.chain?.length ? 'text-good' : 'text-soft'}`}>
              {broken ? '▲' : w.chain?.length ? '✓' : '·'}
            </span>
            <span className="w-10 font-mono">{w.entry ?? '–'}</span>
            <span className="w-56 truncate">{w.title}</span>
            <span className="text-soft">
              {w.taken && <b className="text-ink">taken: </b>}
              {text}
            </span>
          </li>
        )
      })}
    </ol>
  )
}
