import { Collapsible } from 'radix-ui'

import type { Docket } from '../../api/client'
import { LogAt } from '../../parts/LogAt'

export function Failure({ failure }: { failure: NonNullable<Docket['broke']> }) {
  const rest = failure.chain.slice(1)
  return (
    <div>
      <p className="font-semibold">{[failure.stage, failure.object].filter(Boolean).join(' ')}</p>
      <blockquote className="mt-1 border-l-4 border-bad bg-bad-wash px-3 py-1.5">
        <div className="grid grid-cols-[5rem_1fr] text-tiny">
          <span className="text-bad">▲ decisive</span>
          <LogAt place={failure.decisive}>{failure.saidBy ? `said by ${failure.saidBy}` : null}</LogAt>
        </div>
        <pre className="font-mono text-small whitespace-pre-wrap">{failure.decisive.text}</pre>
      </blockquote>
      {failure.decisive.means && <pre className="mt-1 font-mono text-tiny whitespace-pre-wrap text-soft">means: {failure.decisive.means}</pre>}
      <p className="mt-1 text-small text-soft">Chosen because it is {failure.why}.</p>
      {rest.length > 0 && (
        <Collapsible.Root>
          <Collapsible.Trigger className="mt-1 text-small text-accent underline underline-offset-2">
            {rest.length} {rest.length === 1 ? 'record' : 'records'} followed from it
          </Collapsible.Trigger>
          <Collapsible.Content>
            <ol className="mt-1 border-l border-rule pl-3 font-mono text-tiny">
              {rest.map((e) => (
                <li key={`${e.file}${e.line}`} className="grid grid-cols-[3.5rem_1fr] py-px">
                  <span className="text-soft">{e.line}</span>
                  <span className="whitespace-pre-wrap">{e.text}</span>
                </li>
              ))}
            </ol>
          </Collapsible.Content>
        </Collapsible.Root>
      )}
    </div>
  )
}
