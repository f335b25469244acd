import type { Link } from '../api/client'

/** The chain by which a machine starts: one box a link, the broken one torn off. */
export function BootChain({ chain }: { chain: Link[] }) {
  return (
    <ol className="flex" aria-label="How it starts">
      {chain.map((l, i) => {
        const broken = Boolean(l.fault)
        return (
          <li key={l.kind} className={`flex min-w-0 items-stretch ${broken ? 'flex-[2.4]' : 'flex-1'}`}>
            {i > 0 && (
              <span aria-hidden className={`flex w-3 shrink-0 items-center justify-center ${broken ? 'text-bad' : 'text-soft'}`}>
                {broken ? '✂' : '—'}
              </span>
            )}
            <div title={`${l.what}: ${l.saw}`} className={`min-w-0 flex-1 px-1.5 py-1 ${broken ? 'border-2 border-dashed border-bad bg-(--bad-wash)' : 'border border-rule bg-sheet'}`}>
              <div className="text-tiny font-semibold">
                <span aria-hidden className={broken ? 'text-bad' : 'text-good'}>
                  {broken ? '▲' : '✓'}
                </span>{' '}
                {l.kind}
              </div>
              <div className={`text-tiny break-words ${broken ? 'text-bad' : 'truncate text-soft'}`}>{broken ? `${l.what}: ${l.saw}` : l.what}</div>
            </div>
          </li>
        )
      })}
    </ol>
  )
}
